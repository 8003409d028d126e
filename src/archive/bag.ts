import { createHash } from 'node:crypto';
import { createReadStream } from 'node:fs';
import { lstat } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import {
  createFile,
  DiskFull,
  filesBelow,
  flushTree,
  isThere,
  makeFolder,
  orDiskFull,
  removeTree,
  renameFolder,
  writeWhole,
} from './disk';

/** A file of a bag that was written. */
export interface BaggedFile {
  /** In the bag, below `data/`, levels parted by `/`. */
  path: string;
  /** Octets. */
  size: number;
  /** In hexadecimal. */
  sha256: string;
}

/** Says of a bag what it is (RFC 8493 §2.2.2). Values fit for one line. */
export type BagInfo = Readonly<Record<string, string>>;

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
    const target = join(this.unfinished, 'data', path);
    await makeFolder(dirname(target));
    const file = await createFile(target);
    const hash = createHash('sha256');
    let size = 0;
    let isWritten = false;
    try {
      for await (const piece of octets) {
        hash.update(piece);
        await orDiskFull(() => file.writeFile(piece));
        size += piece.length;
      }
      await orDiskFull(() => file.datasync());
      isWritten = true;
    } finally {
      await file.close();
      if (!isWritten) await removeTree(target);
    }
    return { path, size, sha256: hash.digest('hex') };
  }

  /** Takes a file away again, before the bag is whole. */
  async remove(path: string): Promise<void> {
    await removeTree(join(this.unfinished, 'data', path));
  }

  /** Writes the manifests of files that were written, and gives the bag its name. */
  async seal(files: AsyncIterable<BaggedFile>, info: BagInfo): Promise<void> {
    const { unfinished } = this;
    await makeFolder(join(unfinished, 'data'));
    let octets = 0;
    let count = 0;
    async function* lines() {
      for await (const { path, size, sha256 } of files) {
        octets += size;
        count++;
        yield Buffer.from(manifestLine(sha256, `data/${path}`));
      }
    }
    const manifest = await written(join(unfinished, 'manifest-sha256.txt'), lines());
    const declaration = 'BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n';
    const fields = Object.entries({ ...info, 'Payload-Oxum': `${octets}.${count}` });
    const tags = {
      'bag-info.txt': fields.map(([name, value]) => `${name}: ${value}\n`).join(''),
      'bagit.txt': declaration,
    };
    const sums = [manifestLine(manifest, 'manifest-sha256.txt')];
    for (const [name, text] of Object.entries(tags)) {
      await writeWhole(join(unfinished, name), text);
      sums.push(manifestLine(createHash('sha256').update(text).digest('hex'), name));
    }
    await writeWhole(join(unfinished, 'tagmanifest-sha256.txt'), sums.join(''));
    await flushTree(unfinished);
    await renameFolder(unfinished, this.path);
  }

  /** Reads a file back from the disk; undefined where it is not there. */
  async read(path: string): Promise<BaggedFile | undefined> {
    const target = join(this.path, 'data', path);
    const hash = createHash('sha256');
    let size = 0;
    try {
      if (!(await lstat(target)).isFile()) return undefined;
      for await (const piece of createReadStream(target, { highWaterMark: 1024 * 1024 })) {
        hash.update(piece as Buffer);
        size += (piece as Buffer).length;
      }
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return undefined;
      throw error;
    }
    return { path, size, sha256: hash.digest('hex') };
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
    await removeTree(this.unfinished);
    await removeTree(this.path);
  }
}

/** A line of a manifest (RFC 8493 §2.1.3), as `sha256sum -c` reads it too. Safe names hold nothing that would be escaped. */
function manifestLine(sha256: string, path: string): string {
  return `${sha256}  ${path}\n`;
}

/** Writes a file and gives its SHA-256. */
async function written(path: string, octets: AsyncIterable<Uint8Array>): Promise<string> {
  const file = await createFile(path);
  const hash = createHash('sha256');
  try {
    for await (const piece of octets) {
      hash.update(piece);
      await orDiskFull(() => file.writeFile(piece));
    }
    await orDiskFull(() => file.sync());
  } finally {
    await file.close();
  }
  return hash.digest('hex');
}

export { DiskFull };
