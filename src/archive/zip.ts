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
 * A ZIP archive (ZIP64 where it has to be) as a stream, and its octets. The files are stored as they are: what people attach is
 * compressed by itself already.
 */
export async function zipped(files: readonly ZippedFile[]): Promise<{ octets: Readable; size: number }> {
  const zip = new ZipFile();
  const octets = zip.outputStream as Readable;
  // Whoever reads them is told; where nobody does, nobody has to know.
  octets.on('error', () => undefined);
  zip.on('error', (error) => octets.destroy(error as Error));
  let read: Readable | undefined;
  octets.on('close', () => read?.destroy());
  for (const { path, from, size } of files)
    zip.addReadStreamLazy(path, { compress: false, size, mtime: WHEN, mode: 0o100644 }, (done) => {
      read = createReadStream(from, { highWaterMark: 1024 * 1024 });
      if (octets.destroyed) read.destroy();
      done(null, read);
    });
  // Its types leave out that it tells the size.
  const size = await new Promise<number>((resolve) =>
    zip.end({ forceZip64Format: false, comment: '' }, resolve as unknown as () => void),
  );
  return { octets, size };
}

/** The octets of a stream from one to another, both included. What lies behind is not read. */
export async function* between(
  octets: AsyncIterable<Uint8Array>,
  first: number,
  last: number,
): AsyncGenerator<Uint8Array> {
  let at = 0;
  for await (const piece of octets) {
    const wanted = piece.subarray(Math.max(0, first - at), Math.max(0, last + 1 - at));
    if (wanted.length > 0) yield wanted;
    at += piece.length;
    if (at > last) return;
  }
}
