import { sharesQuota } from '../../core/space/share';
import type { Queryable } from '../database';
import { lastReading, type Reading } from '../index/readings';
import { type FileSpace, spacesOf } from './spaces';

/** Whether a file space counts against the limit of the mailbox: as a person said, else as the figures of both servers tell. */
export function countsAgainst(space: FileSpace, reading: Pick<Reading, 'used' | 'limit'> | undefined): boolean | null {
  const { quotaUsed, quotaAvailable, sharesQuota: said } = space;
  const figures = {
    space: { used: quotaUsed, available: quotaAvailable },
    mail: { used: reading?.used ?? null, limit: reading?.limit ?? null },
  };
  return said ?? sharesQuota(figures);
}

/** Octets of the files that count against the limit of the mailbox; undefined where no file space is known that does. */
export async function countedFileBytes(db: Queryable, account: number): Promise<number | undefined> {
  const [spaces, reading] = [await spacesOf(db, account), await lastReading(db, account)];
  const counting = spaces.filter((space) => space.listedAt !== null && countsAgainst(space, reading));
  return counting.length === 0 ? undefined : counting.reduce((sum, { own }) => sum + own.bytes, 0);
}
