import { makeZip, predictLength } from 'client-zip';

/** A file of a ZIP archive. */
export interface ZippedFile {
  /** In the archive, levels parted by `/`. */
  path: string;
  /** Octets. */
  size: number;
  /** All of them, in order. */
  read(): AsyncIterable<Uint8Array>;
}

/** Every archive of the same files has the same octets, so that a broken download can go on. The earliest that the format holds. */
const WHEN = new Date(1980, 0, 1);
/** A plain file that its owner writes and all read. */
const MODE = 0o644;

/** Octets that the archive of these files has. */
export function sizeOfZip(files: readonly ZippedFile[]): number {
  return Number(predictLength(files.map(({ path, size }) => ({ name: path, size, mode: MODE }))));
}

/**
 * A ZIP archive (ZIP64 where it has to be), a piece at a time. The files are stored as they are: what people attach is compressed
 * by itself already. Throws where a file can't be read, or has not the size that it is said to have.
 */
export async function* zipped(files: readonly ZippedFile[]): AsyncGenerator<Uint8Array> {
  let reading: AsyncGenerator<Uint8Array> | undefined;
  async function* octetsOf({ read, size }: ZippedFile) {
    let octets = 0;
    for await (const piece of read()) {
      octets += piece.length;
      yield piece;
    }
    if (octets !== size) throw new Error(`A file has ${octets} octets, and had ${size}.`);
  }
  function* entries() {
    for (const file of files) {
      reading = octetsOf(file);
      yield { name: file.path, size: file.size, lastModified: WHEN, mode: MODE, input: reading };
    }
  }
  try {
    yield* makeZip(entries()) as unknown as AsyncIterable<Uint8Array>;
  } finally {
    await reading?.return(undefined);
  }
}

/**
 * The octets of a stream from one to another, both included. What lies behind is not read. One that ends before is an error: who
 * was told so many would wait for the rest.
 */
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
  throw new Error('An archive ended before it had all of its octets.');
}
