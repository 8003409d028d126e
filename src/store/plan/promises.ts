import { printMultirange, rangesOf } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import { type Queryable, rows } from '../database';
import { brokenDoubled } from './doubled';
import { brokenEchoes } from './echoes';
import { brokenPictures } from './pictures';
import { brokenFiles, keepFiles } from './repeated-files';
import { PROMISES, type Promised } from './taken';
import { brokenTwins } from './twins';

export const PROMISES_OF_MESSAGES = ['twins', 'echoes'] as const satisfies readonly Promised[];
export const PROMISES_OF_FILES = ['files', 'pictures', 'spaces'] as const satisfies readonly Promised[];

/** What lots of the plan must not take, by what they promised to stay: placements, or files. */
type Broken = Record<Promised, number[]>;

/** Looks whether of all that lots of the plan take another one stays, where they promised that. @param of promises that are looked at. */
export async function brokenPromises(
  db: Queryable,
  account: Account,
  of: readonly Promised[] = PROMISES,
): Promise<Broken> {
  const promised = await rows<{ promise: Promised }>(
    db,
    'select distinct promise from lot where account = $1 and run is null and promise is not null',
    [account.id],
  );
  const made = new Set(promised.map(({ promise }) => promise).filter((promise) => of.includes(promise)));
  const broken: Broken = { twins: [], files: [], pictures: [], echoes: [], spaces: [] };
  if (made.has('twins')) broken.twins = await brokenTwins(db, account);
  if (made.has('echoes')) broken.echoes = await brokenEchoes(db, account);
  if (made.has('files')) broken.files = await brokenFiles(db, account);
  if (made.has('pictures')) broken.pictures = await brokenPictures(db, account);
  if (made.has('spaces')) broken.spaces = await brokenDoubled(db, account);
  return broken;
}

/** How many messages and files these are. */
export function countOfBroken(broken: Broken): number {
  return Object.values(broken).reduce((sum, ids) => sum + ids.length, 0);
}

/**
 * Takes out of lots what they must not take, since nothing else of its kind would stay. That only leaves more in the mailbox, so it breaks
 * no other promise.
 *
 * @param of promises that are looked at.
 * @returns how many messages and files stay.
 */
export async function keepPromises(
  db: Queryable,
  account: Account,
  of: readonly Promised[] = PROMISES,
): Promise<number> {
  const broken = await brokenPromises(db, account, of);
  for (const promise of PROMISES_OF_MESSAGES)
    if (broken[promise].length > 0)
      await db.query(
        `update lot set excepted = excepted + ($2::int8multirange * members) where account = $1 and run is null and promise = $3`,
        [account.id, printMultirange(rangesOf(broken[promise])), promise],
      );
  for (const promise of PROMISES_OF_FILES) await keepFiles(db, account.id, promise, broken[promise]);
  return countOfBroken(broken);
}
