import * as clock from '../../clock/clock';
import { type FileCopyRows, type FileGroup, fileGroups } from '../../core/repeats/file-copies';
import { includes, printMultirange, type Ranges, rangesOf } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import type { Queryable } from '../database';
import { guardedNow, keepingFiles } from '../index/guarded';
import { readFileCopies } from '../index/repeated-files';
import { promisedFilesOfPlan } from './promised';
import { filesTakenNow, takenNow } from './taken';

/** Files that lie in several messages, and which of them can go. */
export interface RepeatedFiles {
  rows: FileCopyRows;
  /** Those from which most is won first. */
  groups: FileGroup[];
  guarded: Ranges;
  /** Messages, and files, that the plan and runs that are not over take. */
  taken: Ranges;
  takenOut: Ranges;
}

/** @param leaving placements that are counted elsewhere as what can go: their files are left out. */
export async function repeatedFilesOf(db: Queryable, account: Account, leaving?: Ranges): Promise<RepeatedFiles> {
  const found = await readFileCopies(db, account);
  const guarded = keepingFiles(await guardedNow(db, account, clock.now()));
  const taken = await takenNow(db, account.id);
  const takenOut = await filesTakenNow(db, account.id);
  const groups = fileGroups(found, {
    isLeft: (id) => leaving !== undefined && includes(leaving, id),
    isGuarded: (id) => includes(guarded, id),
    isTaken: (id) => includes(taken, id),
    isTakenOut: (file) => includes(takenOut, file),
  }).filter(({ files }) => files.length > 1);
  groups.sort((a, b) => b.bytes - a.bytes || a.id - b.id);
  return { rows: found, groups, guarded, taken, takenOut };
}

/**
 * Files that lots of the plan must not take out, since no other with the same octets would stay though they promised that: of each group
 * the best of those that such lots alone take.
 */
export async function brokenFiles(db: Queryable, account: Account): Promise<number[]> {
  const promised = new Set(await promisedFilesOfPlan(db, account, 'files'));
  if (promised.size === 0) return [];
  const found = await readFileCopies(db, account);
  const taken = await takenNow(db, account.id);
  const takenOut = await filesTakenNow(db, account.id);
  const takenByOthers = await filesTakenNow(db, account.id, 'files');
  const facts = { isGuarded: () => false, isTaken: (id: number) => includes(taken, id) };
  const groups = fileGroups(found, { ...facts, isTakenOut: (file) => includes(takenOut, file) });
  // The same groups, of whose files those alone can stay that nothing else takes.
  const ours = fileGroups(found, {
    ...facts,
    isTakenOut: (file) => !promised.has(file) || includes(takenByOthers, file),
  });
  const known = new Set(found.file);
  // Where no other is left, it is one of a kind.
  const staying = [...promised].filter((file) => !known.has(file));
  for (const [at, { kept }] of groups.entries()) {
    const best = ours[at]?.kept;
    if (!kept && best) staying.push(best.id);
  }
  return staying;
}

/** Has files stay that lots of a promise would take out. Messages that lose nothing any more are out of these lots. */
export async function keepFiles(
  db: Queryable,
  account: number,
  promise: 'files' | 'pictures' | 'spaces',
  staying: readonly number[],
): Promise<void> {
  if (staying.length === 0) return;
  await db.query(
    `update lot set files = files - $3::int8multirange, members = members - coalesce((
         select range_agg(int8range(p.id, p.id + 1)) from unnest($4::bigint[]) as one (message)
         cross join lateral (select id from placement where account = $1 and message = one.message offset 0) p
         where not (lot.files - $3::int8multirange) && int8multirange(int8range(one.message * 512, one.message * 512 + 512))), '{}')
     where account = $1 and run is null and promise = $2 and files && $3::int8multirange`,
    [account, promise, printMultirange(rangesOf(staying)), [...new Set(staying.map((file) => Math.floor(file / 512)))]],
  );
}
