import type { FileHandle } from 'node:fs/promises';
import { crc32 } from 'node:zlib';
import { fromFdPromise, type Entry as PackedEntry, type ZipFile } from 'yauzl';
import { Region } from '../region';
import { type Container, type Entry, MOST_ENTRIES, pathInside } from './container';
import { mostUnpacked, unpacked } from './unpacked';
import { CutOff, Unreadable } from './unreadable';

/** Octets of what stands before a packed file, at least (APPNOTE 4.3.7). */
const LOCAL_HEADER = 30;

/** Whether octets begin a ZIP archive: with a file, or with the end of one without any (APPNOTE 4.3.7, 4.3.16). */
export function isZip(beginning: Buffer): boolean {
  const signature = beginning.toString('hex', 0, 4);
  return signature === '504b0304' || signature === '504b0506';
}

/** A ZIP archive, ZIP64 where it is. */
export class Zip implements Container {
  private constructor(
    private readonly file: FileHandle,
    private readonly scratch: string,
  ) {}

  /**
   * Opens an archive and looks at all that it says of its files before one is read.
   *
   * @param scratch a folder for files that have to be unpacked to be read.
   * @throws Unreadable where it is damaged, encrypted, or made to do harm.
   */
  static async open(file: FileHandle, size: number, scratch: string): Promise<Zip> {
    const zip = new Zip(file, scratch);
    let count = 0;
    let from = 0;
    let to = 0;
    for await (const { compressedSize, uncompressedSize } of zip.packed()) {
      if (++count > MOST_ENTRIES)
        throw new Unreadable('too-many-files', `The archive has more than ${MOST_ENTRIES} files.`);
      from += compressedSize + LOCAL_HEADER;
      to += uncompressedSize;
    }
    // Files that lie over each other: a few octets would be unpacked again and again.
    if (from > size) throw damaged('its files lie over each other');
    if (to > mostUnpacked(size))
      throw new Unreadable(
        'unpacks-to-too-much',
        `The ZIP archive has ${size} octets and says that it unpacks to ${to}. No mail does that.`,
      );
    return zip;
  }

  async *entries(): AsyncGenerator<Entry> {
    for await (const [zip, packed] of this.opened()) if (!packed.fileName.endsWith('/')) yield this.entry(zip, packed);
  }

  private async *packed(): AsyncGenerator<PackedEntry> {
    for await (const [, packed] of this.opened()) yield packed;
  }

  private async *opened(): AsyncGenerator<[ZipFile, PackedEntry]> {
    try {
      const zip = await fromFdPromise(this.file.fd, { autoClose: false, lazyEntries: true });
      for await (const packed of zip.eachEntry()) {
        if (packed.isEncrypted())
          throw new Unreadable('encrypted', 'The ZIP archive is encrypted. Unpack it, and bring in what was in it.');
        yield [zip, packed];
      }
    } catch (error) {
      throw asUnreadable(error);
    }
  }

  private entry(zip: ZipFile, packed: PackedEntry): Entry {
    const read = () => octetsOf(zip, packed);
    const modified = packed.getLastModDate();
    const { scratch } = this;
    return {
      path: pathInside(packed.fileName),
      size: packed.uncompressedSize,
      // The earliest that the format holds stands for none.
      modified: modified.getFullYear() > 1980 ? modified : null,
      read,
      async *within(work) {
        const { file, size, failure } = await unpacked(scratch, read());
        try {
          yield* work(new Region(file, 0, size));
        } finally {
          await file.close();
        }
        if (failure) throw failure;
      },
    };
  }
}

async function* octetsOf(zip: ZipFile, packed: PackedEntry): AsyncGenerator<Buffer> {
  let sum = 0;
  try {
    for await (const piece of await zip.openReadStreamPromise(packed)) {
      sum = crc32(piece as Buffer, sum);
      yield piece as Buffer;
    }
  } catch {
    // The library and zlib say it in many ways; whoever stops reading throws nothing here.
    throw new CutOff();
  }
  if (sum !== packed.crc32) throw new CutOff();
}

function damaged(how: string): Unreadable {
  return new Unreadable('damaged-archive', `The ZIP archive is damaged: ${how}. Pack it again, and bring it in anew.`);
}

/** The library’s errors have nothing but a message. */
function asUnreadable(error: unknown): unknown {
  if (!(error instanceof Error) || error instanceof Unreadable || error.constructor !== Error || 'code' in error)
    return error;
  if (/relative path|absolute path/.test(error.message))
    return new Unreadable('leads-out', `The archive has a path that leads out of it (${error.message.slice(0, 200)}).`);
  return damaged(error.message.slice(0, 200).replace(/[.\s]+$/, ''));
}
