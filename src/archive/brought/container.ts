import type { Region } from '../region';
import { Unreadable } from './unreadable';

/** A file inside an archive. */
export interface Entry {
  /** Levels parted by `/`; it names nothing on this machine. */
  path: string;
  /** Octets, as the archive says. */
  size: number;
  /** When it was written last; null where the archive does not say. */
  modified: Date | null;
  /** All of its octets, in order. Throws CutOff where they end before, or are not what was packed. */
  read(): AsyncIterable<Buffer>;
  /** Gives its octets to be read in any order, for as long as that is worked with. Throws CutOff, DiskFull. */
  within<T>(work: (region: Region) => AsyncGenerator<T>): AsyncGenerator<T>;
}

/** An archive whose files are read one after the other, always in the same order, any number of times. */
export interface Container {
  entries(): AsyncGenerator<Entry>;
}

/** Files that an archive may hold. */
export const MOST_ENTRIES = 2_000_000;

/**
 * The path of a file as an archive has it, without what leads nowhere.
 *
 * @throws Unreadable where it leads out of the archive: nothing is ever written by that name, but who packs such a one means harm.
 */
export function pathInside(path: string): string {
  const levels = path
    .replaceAll('\\', '/')
    .split('/')
    .filter((level) => level !== '' && level !== '.');
  if (levels.includes('..') || path.includes('\0'))
    throw new Unreadable(
      'leads-out',
      `The archive has a path that leads out of it: ${JSON.stringify(path.slice(0, 100))}.`,
    );
  return levels.join('/');
}
