import * as clock from '../../clock/clock';
import { includes, printMultirange, type Ranges } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import { type Queryable, rows } from '../database';
import { guardedNow, keepingFiles } from '../index/guarded';
import { type DoubledRow, doubledRows, type SpaceCopy, STAYS, spaceCopies } from '../space/doubled';
import { filesOfSpacesTaken } from './file-lots';
import { promisedFilesOfPlan } from './promised';
import { filesTakenNow, takenNow } from './taken';

/** A file of a message that a file space has too. */
export interface DoubledFile extends DoubledRow {
  /** `stays`: no file space would have it any more. */
  state: 'goes' | 'guarded' | 'marked' | 'stays';
}

/** A file of a file space that messages have too. */
export interface DoubledCopy extends SpaceCopy {
  /** `stays`: none of the messages would have it any more. */
  state: 'goes' | 'stays' | 'marked';
}

/** Files of messages and of file spaces with the same octets. */
export interface DoubledGroup {
  /** The lowest id of the files of messages. */
  id: number;
  sha256: string;
  files: DoubledFile[];
  copies: DoubledCopy[];
  /** Encoded octets of the files of messages that can go. */
  bytes: number;
}

/**
 * Files that lie in messages and in a file space, those from which most is won first. All in messages can go, since the file space has one;
 * or all in the file space, since a message has one.
 *
 * @param leaving placements that are counted elsewhere as what can go: their files are left out.
 */
export async function doubledOf(db: Queryable, account: Account, leaving?: Ranges): Promise<DoubledGroup[]> {
  const found = await doubledRows(db, account);
  if (found.length === 0) return [];
  const guarded = keepingFiles(await guardedNow(db, account, clock.now()));
  const taken = await takenNow(db, account.id);
  const takenOut = await filesTakenNow(db, account.id);
  const groups = new Map<string, DoubledGroup>();
  const known = new Map<number, DoubledFile>();
  for (const row of found) {
    if (leaving && includes(leaving, row.placement)) continue;
    const isMarked = includes(taken, row.placement) || includes(takenOut, row.file);
    const state = isMarked ? 'marked' : includes(guarded, row.placement) ? 'guarded' : 'goes';
    const before = known.get(row.file);
    if (before) {
      // A message in several folders: what keeps one of its placements keeps it.
      if (before.state === 'goes') before.state = state;
      continue;
    }
    const group = groups.get(row.sha256) ?? { id: row.file, sha256: row.sha256, files: [], copies: [], bytes: 0 };
    const file = { ...row, state } as DoubledFile;
    known.set(row.file, file);
    group.files.push(file);
    groups.set(row.sha256, group);
  }
  const takenThere = await filesOfSpacesTaken(db, account.id);
  for (const copy of await spaceCopies(db, account.id, [...groups.keys()])) {
    const group = groups.get(copy.sha256);
    const stays = group?.files.some(({ state }) => state !== 'marked') ? 'goes' : 'stays';
    group?.copies.push({ ...copy, state: includes(takenThere, copy.id) ? 'marked' : stays });
  }
  for (const group of groups.values()) {
    const isLast = group.copies.every(({ state }) => state === 'marked');
    if (isLast) for (const file of group.files) if (file.state === 'goes') file.state = 'stays';
    group.bytes = group.files.reduce((sum, { state, size }) => sum + (state === 'goes' ? size : 0), 0);
  }
  return [...groups.values()].sort((a, b) => b.bytes - a.bytes || a.id - b.id);
}

/** Files that lots of the plan must not take out, since no file space has them any more that the plan leaves there, as far as the index knows. */
export async function brokenDoubled(db: Queryable, account: Account): Promise<number[]> {
  const promised = await promisedFilesOfPlan(db, account, 'spaces');
  if (promised.length === 0) return [];
  const there = await rows<{ file: number }>(
    db,
    `select one.file from unnest($2::bigint[]) as one (file)
     cross join lateral (select * from file_digest where account = $1 and file = one.file and sha256 is not null offset 0) d
     where exists (select from space_file f join space s on s.account = f.account and s.id = f.space
       where f.account = $1 and f.sha256 = d.sha256 and ${STAYS} and not $3::int8multirange @> f.id)`,
    [account.id, promised, printMultirange(await filesOfSpacesTaken(db, account.id))],
  );
  const kept = new Set(there.map(({ file }) => file));
  return promised.filter((file) => !kept.has(file));
}
