import { Header, Pax } from 'tar';

/** A file of a tar archive, or a folder. */
export interface TarredFile {
  /** In the archive, levels parted by `/`; of a folder with one at its end. */
  path: string;
  /** Octets; 0 of a folder. */
  size: number;
  modified: Date;
  /** All of them, in order. */
  read(): AsyncIterable<Uint8Array>;
}

const BLOCK = 512;
/** Two empty blocks end an archive. */
const END = 2 * BLOCK;

/** Octets that the archive of these files has. */
export function sizeOfTar(files: readonly TarredFile[]): number {
  return files.reduce((sum, file) => sum + headOf(file).length + padded(file.size), END);
}

/**
 * The octets of a tar archive (POSIX.1-2017, pax) from one to another, both included. Every archive of the same files has the same
 * octets, and what is not asked for is not read. Throws where a file has not the size that it is said to have.
 */
export async function* tarred(files: readonly TarredFile[], first: number, last: number): AsyncGenerator<Uint8Array> {
  let at = 0;
  const within = (octets: Uint8Array, from: number) =>
    octets.subarray(Math.max(0, first - from), Math.max(0, last + 1 - from));
  for (const file of files) {
    if (at > last) return;
    const head = headOf(file);
    const end = at + head.length + padded(file.size);
    if (end > first) {
      const wanted = within(head, at);
      if (wanted.length > 0) yield wanted;
      yield* bodyOf(file, at + head.length, within);
    }
    at = end;
  }
  const rest = within(new Uint8Array(END), at);
  if (rest.length > 0) yield rest;
}

async function* bodyOf(
  { path, size, read }: TarredFile,
  from: number,
  within: (octets: Uint8Array, from: number) => Uint8Array,
): AsyncGenerator<Uint8Array> {
  let octets = 0;
  if (size > 0)
    for await (const piece of read()) {
      const wanted = within(piece, from + octets);
      octets += piece.length;
      if (wanted.length > 0) yield wanted;
    }
  if (octets !== size) throw new Error(`The file ${path} has ${octets} octets, and had ${size}.`);
  const padding = within(new Uint8Array(padded(size) - size), from + size);
  if (padding.length > 0) yield padding;
}

function padded(size: number): number {
  return Math.ceil(size / BLOCK) * BLOCK;
}

/** What stands before the octets of a file; with an extended header where its name or its size does not fit. */
function headOf({ path, size, modified }: TarredFile): Uint8Array {
  const isFolder = path.endsWith('/');
  // Whole seconds: parts of one would stand in an extended header.
  const mtime = new Date(Math.floor(modified.getTime() / 1000) * 1000);
  const type = isFolder ? ('Directory' as const) : ('File' as const);
  const fields = { path, size, mtime, type, mode: isFolder ? 0o700 : 0o600, uid: 0, gid: 0, uname: '', gname: '' };
  const block = Buffer.alloc(BLOCK);
  const header = new Header(fields);
  if (!header.encode(block)) return block;
  return Buffer.concat([new Pax({ path, size, mtime }).encode(), block]);
}
