import type { FileHandle } from 'node:fs/promises';
import { orDiskFull } from '../disk';
import { nameless } from '../scratch';
import { CutOff } from './unreadable';

/** Mail unpacks to no more times its octets, unless it is little: what does is made to fill a disk. */
const MOST_TIMES = 200;
const ALWAYS_ALLOWED = 2 ** 30;

/** Octets that a packed file may unpack to. */
export function mostUnpacked(packed: number): number {
  return Math.max(ALWAYS_ALLOWED, packed * MOST_TIMES);
}

/** What was packed, in a file without a name. */
export interface Unpacked {
  /** To be closed. */
  file: FileHandle;
  size: number;
  /** Why it is not all that was packed; undefined where it is. */
  failure: CutOff | undefined;
}

/** Writes octets, as far as they come, into a file that can be read in any order. @throws DiskFull */
export async function unpacked(folder: string, octets: AsyncIterable<Uint8Array>): Promise<Unpacked> {
  const file = await nameless(folder);
  let size = 0;
  let failure: CutOff | undefined;
  try {
    for await (const piece of octets) {
      await orDiskFull(() => file.writeFile(piece));
      size += piece.length;
    }
  } catch (error) {
    if (!(error instanceof CutOff)) {
      await file.close();
      throw error;
    }
    failure = error;
  }
  return { file, size, failure };
}
