import { createReadStream } from 'node:fs';
import type { Readable } from 'node:stream';
import { ZipFile } from 'yazl';

/** A file of a ZIP archive. */
export interface ZippedFile {
  /** In the archive, levels parted by `/`. */
  path: string;
  /** Where it is read from. */
  from: string;
  /** Octets. */
  size: number;
}

/** Every archive of the same files has the same octets, so that a broken download can go on. The earliest that the format holds. */
const WHEN = new Date(1980, 0, 1);

/**
 * A ZIP archive (ZIP64 where it has to be) as a stream. The files are stored as they are: what people attach is compressed by
 * itself already.
 */
export function zipped(files: readonly ZippedFile[]): { octets: Readable; size: Promise<number> } {
  const zip = new ZipFile();
  zip.on('error', (error) => (zip.outputStream as Readable).destroy(error as Error));
  for (const { path, from, size } of files)
    zip.addReadStreamLazy(path, { compress: false, size, mtime: WHEN, mode: 0o100644 }, (done) =>
      done(null, createReadStream(from, { highWaterMark: 1024 * 1024 })),
    );
  // Its types leave out that it tells the size.
  const size = new Promise<number>((resolve) =>
    zip.end({ forceZip64Format: false, comment: '' }, resolve as unknown as () => void),
  );
  return { octets: zip.outputStream as Readable, size };
}

/** The octets of a stream from one on. */
export async function* from(octets: AsyncIterable<Uint8Array>, first: number): AsyncGenerator<Uint8Array> {
  let at = 0;
  for await (const piece of octets) {
    if (at + piece.length > first) yield piece.subarray(Math.max(0, first - at));
    at += piece.length;
  }
}
