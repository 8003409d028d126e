import { createHash, randomUUID } from 'node:crypto';
import { createReadStream, type Stats } from 'node:fs';
import { type FileHandle, lstat, readFile, rename } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import type { Readable } from 'node:stream';
import type { MessagePlace } from '../core/archive/message-place';
import { digestOf, fewOrComing, hashOf, SMALL } from './digest';
import {
  createFile,
  DiskFull,
  filesBelow,
  flushFolder,
  flushTree,
  isThere,
  makeFolder,
  orDiskFull,
  removeTree,
  renameFolder,
  setWritable,
  UNREADABLE,
  writeWhole,
} from './disk';
import { MboxFile, putMessage } from './mbox-file';
import { type MessageOfMbox, messageAt, readBack } from './mbox-reader';

/** A file of a bag that was written. */
export interface BaggedFile {
  /** In the bag, below `data/`, levels parted by `/`. */
  path: string;
  /** Octets. */
  size: number;
  /** In hexadecimal. */
  sha256: string;
}

/** A file whose octets were taken in. */
export interface ReceivedFile {
  /** Octets. */
  size: number;
  /** The file, once the disk keeps it. */
  kept: Promise<BaggedFile>;
}

/** Says of a bag what it is (RFC 8493 §2.2.2). Values fit for one line. */
export type BagInfo = Readonly<Record<string, string>>;

/** Where a file goes, and where it is while it is written: nobody else writes there. */
interface Place {
  target: string;
  arriving: string;
}

/**
 * Files that are being written. A worker that was stopped for a while, and goes on although another has taken over, must touch
 * none of the other's files.
 */
const ARRIVING = 'arriving';

/** What a bag has besides what was saved (RFC 8493 §2), and the index of that. */
export const TAG_FILES: ReadonlySet<string> = new Set([
  ...['bagit.txt', 'bag-info.txt', 'manifest-sha256.txt', 'tagmanifest-sha256.txt'],
  'data/index.jsonl',
]);

/** What is added to the name of a bag while it is not whole. */
const UNFINISHED = '.part';

/**
 * A bag (RFC 8493): a folder with files and their SHA-256. It is written under another name, flushed to the disk, and gets
 * its own name when it is whole; killed at any octet, its files are taken up or written again.
 */
export class Bag {
  /** @param path of the folder, when it is whole. */
  constructor(readonly path: string) {}

  private get unfinished(): string {
    return `${this.path}${UNFINISHED}`;
  }

  /** Whether it has its final name. */
  isWhole(): Promise<boolean> {
    return isThere(this.path);
  }

  /**
   * Writes a file from its octets, and has the disk keep them. Where it fails nothing of the file is left.
   *
   * @param path below `data/`; safe names, levels parted by `/`.
   * @throws DiskFull
   */
  async write(path: string, octets: AsyncIterable<Uint8Array>): Promise<BaggedFile> {
    return (await this.receive(path, octets)).kept;
  }

  /**
   * Takes the octets of a file in. What is small is written, flushed and hashed while the next file comes in already.
   *
   * @throws DiskFull
   */
  async receive(path: string, octets: AsyncIterable<Uint8Array>): Promise<ReceivedFile> {
    const place = await this.placeFor(path);
    const few = await fewOrComing(octets);
    if ('coming' in few) {
      const file = await writtenFile(place, few.coming);
      return { size: file.size, kept: Promise.resolve({ path, ...file }) };
    }
    const kept = writtenSmall(place, few.all).then((file) => ({ path, ...file }));
    // Whoever waits for it hears of a failure.
    kept.catch(() => undefined);
    return { size: few.all.length, kept };
  }

  private async placeFor(path: string): Promise<Place> {
    const target = join(this.unfinished, 'data', path);
    const arriving = join(this.unfinished, ARRIVING);
    await makeFolder(dirname(target));
    await makeFolder(arriving);
    return { target, arriving: join(arriving, randomUUID()) };
  }

  /**
   * A new file of messages, to be written by who asks. It is at its place at once: what was noted of it is what counts of it.
   *
   * @throws DiskFull
   */
  async mbox(path: string): Promise<MboxFile> {
    const target = join(this.unfinished, 'data', path);
    await makeFolder(dirname(target));
    return MboxFile.create(target);
  }

  /**
   * Makes the files of a bag that is not whole what was noted of them: what lies behind that goes, and so do the others. What
   * may still be open is another file then, so that a worker that was stopped and goes on changes nothing of it.
   *
   * @param noted by path, how many octets.
   * @throws DiskFull
   */
  async cutTo(noted: ReadonlyMap<string, number>): Promise<void> {
    const data = join(this.unfinished, 'data');
    if (await isThere(data))
      for await (const path of filesBelow(data)) if (!noted.has(path)) await removeTree(join(data, path));
    const found = await Promise.all([...noted.keys()].map((path) => lstat(join(data, path))));
    const newest = found.reduce((latest, { mtimeMs }) => Math.max(latest, mtimeMs), 0);
    for (const [at, [path, octets]] of [...noted].entries()) {
      const { size, mtimeMs } = found[at] as Stats;
      if (size < octets) throw new Error(`The file ${path} of the bag ${this.path} has lost octets.`);
      // Of files that were written to their end before another was begun nobody has one open.
      if (size === octets && mtimeMs < newest) continue;
      const { target, arriving } = await this.placeFor(path);
      async function* kept() {
        if (octets > 0) yield* createReadStream(target, { end: octets - 1, highWaterMark: 1024 * 1024 });
      }
      await writtenFile({ target, arriving }, kept());
    }
  }

  /** Octets and SHA-256 of a file of a bag that is not whole yet. */
  async unfinishedFile(path: string): Promise<BaggedFile> {
    const file = await readFileAt(join(this.unfinished, 'data', path), path);
    if (!file) throw new Error(`The file ${path} of the bag ${this.path} is gone.`);
    return file;
  }

  /** Reads messages of a file back (mbox-reader.ts). */
  readBack<T extends MessageOfMbox>(
    path: string,
    messages: AsyncIterable<T>,
  ): AsyncGenerator<{ message: T; isEqual: boolean }> {
    return readBack(join(this.path, 'data', path), messages);
  }

  /** Takes a file away again, before the bag is whole. */
  async remove(path: string): Promise<void> {
    await removeTree(join(this.unfinished, 'data', path));
  }

  /** Writes the manifests of files that were written, and gives the bag its name. */
  async seal(files: AsyncIterable<BaggedFile>, info: BagInfo): Promise<void> {
    const { unfinished } = this;
    await makeFolder(join(unfinished, 'data'));
    await removeTree(join(unfinished, ARRIVING));
    await writeTags(unfinished, files, info);
    await flushTree(unfinished);
    await renameFolder(unfinished, this.path);
  }

  /** Takes the permission to write from all of it: it is held. Whoever runs this machine can give it back. */
  async protect(): Promise<void> {
    await setWritable(this.path, false);
  }

  /** SHA-256 of its manifest, in hexadecimal; undefined where that can't be read. */
  async manifestDigest(): Promise<string | undefined> {
    return (await readFileAt(join(this.path, 'manifest-sha256.txt'), ''))?.sha256;
  }

  /** Does something that writes, in a bag that may be protected; it is so again afterwards. */
  private async writing<T>(act: () => Promise<T>): Promise<T> {
    const isProtected = ((await lstat(this.path)).mode & 0o200) === 0;
    if (!isProtected) return act();
    await setWritable(this.path, true);
    try {
      return await act();
    } finally {
      await setWritable(this.path, false);
    }
  }

  /** Writes the manifests and the index of a bag that is whole anew. */
  sealAgain(files: AsyncIterable<BaggedFile>, index: AsyncIterable<Uint8Array>, info: BagInfo): Promise<void> {
    return this.writing(() => this.writeTagsAgain(files, index, info));
  }

  private async writeTagsAgain(
    files: AsyncIterable<BaggedFile>,
    index: AsyncIterable<Uint8Array>,
    info: BagInfo,
  ): Promise<void> {
    const path = 'index.jsonl';
    let size = 0;
    async function* counted() {
      for await (const line of index) {
        size += line.length;
        yield line;
      }
    }
    const sha256 = await written(join(this.path, 'data', path), counted());
    async function* all() {
      yield { path, size, sha256 };
      yield* files;
    }
    await writeTags(this.path, all(), info);
    await flushTree(this.path);
  }

  /** Which of the manifests and the index are not what the manifests say, or are not there. */
  async tagsThatDiffer(): Promise<string[]> {
    const sums = new Map<string, string>();
    const read = async (name: string) => readFile(join(this.path, name), 'utf8').catch(() => '');
    for (const manifest of ['tagmanifest-sha256.txt', 'manifest-sha256.txt'])
      for (const line of (await read(manifest)).split('\n')) {
        const [, sum, path] = /^([0-9a-f]{64}) {2}(.+)$/.exec(line) ?? [];
        if (sum && path && TAG_FILES.has(path)) sums.set(path, sum);
      }
    const differing: string[] = [];
    for (const path of TAG_FILES) {
      const found = await readFileAt(join(this.path, path), path);
      const isEqual = path === 'tagmanifest-sha256.txt' ? found !== undefined : found?.sha256 === sums.get(path);
      if (!isEqual) differing.push(path);
    }
    return differing;
  }

  /** Puts the octets of a message or file where they were, without touching what is beside them. @throws DiskFull */
  put(place: MessagePlace, line: string, read: () => AsyncIterable<Uint8Array>): Promise<void> {
    return this.writing(() => this.putInPlace(place, line, read));
  }

  private async putInPlace(
    { path, at, length }: MessagePlace,
    line: string,
    read: () => AsyncIterable<Uint8Array>,
  ): Promise<void> {
    const target = join(this.path, 'data', path);
    await makeFolder(dirname(target));
    if (at === null || length === null) {
      const place = { target, arriving: `${target}.${randomUUID()}` };
      await writtenFile(place, read());
    } else await putMessage(target, at, length, line, read);
    await flushFolder(dirname(target));
  }

  /** The octets of a message; undefined where its file is not there. */
  async message({ path, at, length, size }: MessagePlace): Promise<AsyncIterable<Buffer> | undefined> {
    const target = join(this.path, 'data', path);
    const found = await lstat(target).catch(() => undefined);
    if (!found?.isFile()) return undefined;
    return at === null || length === null ? createReadStream(target) : messageAt(target, { at, length, size });
  }

  /** Reads a file back from the disk; undefined where it is not there. */
  read(path: string): Promise<BaggedFile | undefined> {
    return readFileAt(join(this.path, 'data', path), path);
  }

  /** A file of the bag, its manifests too, to be read; undefined where it is not there. */
  async open(path: string): Promise<{ octets: Readable; size: number } | undefined> {
    const from = join(this.path, path);
    const found = await lstat(from).catch(() => undefined);
    return found?.isFile() ? { octets: createReadStream(from), size: found.size } : undefined;
  }

  /**
   * All files of the bag, its manifests too, in the order of their paths; undefined where it is not whole.
   *
   * @param most files that it may hold.
   */
  async contents(most: number): Promise<{ path: string; from: string; size: number }[] | undefined> {
    if (!(await this.isWhole())) return undefined;
    const found: { path: string; from: string; size: number }[] = [];
    for await (const path of filesBelow(this.path)) {
      const from = join(this.path, path);
      found.push({ path, from, size: (await lstat(from)).size });
      if (found.length > most) throw new Error(`The bag ${this.path} has more than ${most} files.`);
    }
    return found.sort((a, b) => (a.path < b.path ? -1 : 1));
  }

  async erase(): Promise<void> {
    // One that was held lets nothing be deleted.
    if (await this.isWhole()) await setWritable(this.path, true);
    await removeTree(this.unfinished);
    await removeTree(this.path);
  }
}

/** Writes the manifests (RFC 8493 §2.1.3, §2.2.1) and what says that it is a bag. */
async function writeTags(root: string, files: AsyncIterable<BaggedFile>, info: BagInfo): Promise<void> {
  let octets = 0;
  let count = 0;
  async function* lines() {
    for await (const { path, size, sha256 } of files) {
      octets += size;
      count++;
      yield Buffer.from(manifestLine(sha256, `data/${path}`));
    }
  }
  const manifest = await written(join(root, 'manifest-sha256.txt'), lines());
  const declaration = 'BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n';
  const fields = Object.entries({ ...info, 'Payload-Oxum': `${octets}.${count}` });
  const tags = {
    'bag-info.txt': fields.map(([name, value]) => `${name}: ${value}\n`).join(''),
    'bagit.txt': declaration,
  };
  const sums = [manifestLine(manifest, 'manifest-sha256.txt')];
  for (const [name, text] of Object.entries(tags)) {
    await writeWhole(join(root, name), text);
    sums.push(manifestLine(createHash('sha256').update(text).digest('hex'), name));
  }
  await writeWhole(join(root, 'tagmanifest-sha256.txt'), sums.join(''));
}

/** Octets and SHA-256 of a file; undefined where there is none, or where the disk does not give it. */
async function readFileAt(target: string, path: string): Promise<BaggedFile | undefined> {
  try {
    const found = await lstat(target);
    if (!found.isFile()) return undefined;
    if (found.size <= SMALL) {
      const octets = await readFile(target);
      return { path, size: octets.length, sha256: await digestOf(octets) };
    }
    let size = 0;
    async function* counted() {
      for await (const piece of createReadStream(target, { highWaterMark: 1024 * 1024 })) {
        size += (piece as Buffer).length;
        yield piece as Buffer;
      }
    }
    const sha256 = await hashOf(counted());
    return { path, size, sha256 };
  } catch (error) {
    if (UNREADABLE.has((error as NodeJS.ErrnoException).code ?? '')) return undefined;
    throw error;
  }
}

/** A line of a manifest (RFC 8493 §2.1.3), as `sha256sum -c` reads it too. Safe names hold nothing that would be escaped. */
function manifestLine(sha256: string, path: string): string {
  return `${sha256}  ${path}\n`;
}

/** Writes a file and gives its SHA-256. */
async function written(path: string, octets: AsyncIterable<Uint8Array>): Promise<string> {
  const hash = createHash('sha256');
  await writeNew(path, async (file) => {
    for await (const piece of octets) {
      hash.update(piece);
      await file.writeFile(piece);
    }
  });
  return hash.digest('hex');
}

async function writtenFile(place: Place, octets: AsyncIterable<Uint8Array>): Promise<Omit<BaggedFile, 'path'>> {
  let size = 0;
  async function* counted() {
    for await (const piece of octets) {
      size += piece.length;
      yield piece;
    }
  }
  const sha256 = await written(place.arriving, counted());
  await rename(place.arriving, place.target);
  return { size, sha256 };
}

async function writtenSmall(place: Place, octets: Buffer): Promise<Omit<BaggedFile, 'path'>> {
  const [sha256] = await Promise.all([digestOf(octets), writeNew(place.arriving, (file) => file.writeFile(octets))]);
  await rename(place.arriving, place.target);
  return { size: octets.length, sha256 };
}

/** Writes a file and has the disk keep it. Where it fails nothing of the file is left. @throws DiskFull */
async function writeNew(path: string, write: (file: FileHandle) => Promise<void>): Promise<void> {
  const file = await createFile(path);
  let isWritten = false;
  try {
    await orDiskFull(async () => {
      await write(file);
      await file.datasync();
    });
    isWritten = true;
  } finally {
    await file.close();
    if (!isWritten) await removeTree(path);
  }
}

export { DiskFull };
