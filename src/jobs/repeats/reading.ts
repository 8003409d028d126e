import { MailProblem } from '../../mail/problem';
import type { Wanted } from '../../mail/server';
import type { Queryable } from '../../store/database';

/** Where something lies that is to be read. */
export interface Place {
  generation: number;
  uid: number;
  /** Octets. */
  size: number;
}

/** One kind of reading: what of a mailbox is read, and what is kept of it. */
export interface Kind<T extends Place, R> {
  /** What has to be read within a budget of octets, that from which most can be won first. */
  wanted(budget: number): Promise<{ ids: number[]; bytes: number; elsewhere?: { files: number; bytes: number } }>;
  /** Ids that are looked up, and read, together. */
  pages(ids: readonly number[]): Iterable<readonly number[]>;
  places(ids: readonly number[]): Promise<T[]>;
  sectionOf(place: T): Wanted;
  /** What came of reading one; undefined where it has gone. Throws what concerns more than this one. */
  read(place: T, octets: AsyncIterable<Buffer>): Promise<R | undefined>;
  /** Keeps what came of some, in a transaction of the caller's. */
  save(db: Queryable, found: readonly R[]): Promise<void>;
  /**
   * Reads what lies elsewhere than in the mailbox, one after the other.
   *
   * @param keep is told of each, with how many octets it has.
   * @returns false where it gives way: `keep` did.
   */
  elsewhere?(keep: (bytes: number, save: (db: Queryable) => Promise<void>) => Promise<boolean>): Promise<boolean>;
  /** What can be kept once all of a page was read. */
  settle?(ids: readonly number[]): Promise<(db: Queryable) => Promise<void>>;
}

/** Reads one to its end: true; undefined where it has gone, null where the server refuses it, or it is not as long as was said. */
export async function readWhole(
  octets: AsyncIterable<Buffer>,
  isAsLong: (length: number) => boolean,
  use: (octets: AsyncIterable<Buffer>) => Promise<void>,
): Promise<true | undefined | null> {
  let length = 0;
  async function* counted(): AsyncGenerator<Buffer> {
    for await (const piece of octets) {
      length += piece.length;
      yield piece;
    }
  }
  try {
    await use(counted());
  } catch (error) {
    if (!(error instanceof MailProblem)) throw error;
    if (error.kind === 'message-gone') return undefined;
    if (error.kind !== 'command-refused') throw error;
    return null;
  }
  // What is not as long as the server said of it was cut off, or is another: it proves nothing.
  return isAsLong(length) ? true : null;
}

/** Parts a list into pages of so many. */
export function* pagesOf<T>(list: readonly T[], most: number): Generator<readonly T[]> {
  for (let at = 0; at < list.length; at += most) yield list.slice(at, at + most);
}
