import type { Account } from '../access/accounts';
import { type Queryable, rows } from '../database';
import { mailFolders } from '../index/selection';
import { placementsIn } from '../index/spans';
import { HELD } from './held';
import type { Promised } from './taken';

/** Messages outside the trash that lots of the plan with a promise take: ids of placements. What went by itself breaks no promise. */
export async function promisedMessages(db: Queryable, account: Account, promise: Promised): Promise<number[]> {
  const found = await rows<{ id: number }>(
    db,
    `select distinct p.id from lot cross join ${placementsIn(HELD)}
     where lot.account = $1 and lot.run is null and lot.promise = $2 and p.gone_at is null and p.folder = any($3::int[])`,
    [account.id, promise, await mailFolders(db, account)],
  );
  return found.map(({ id }) => id);
}

/** Files of messages outside the trash that lots of the plan with a promise take out. */
export async function promisedFilesOfPlan(db: Queryable, account: Account, promise: Promised): Promise<number[]> {
  const found = await rows<{ id: number }>(
    db,
    `select distinct f.id from lot cross join lateral unnest(lot.files) as span
     cross join lateral (select id from file where account = $1 and id >= lower(span) and id < upper(span) offset 0) f
     cross join lateral (
       select folder from placement where account = $1 and message = f.id / 512 and gone_at is null offset 0) p
     where lot.account = $1 and lot.run is null and lot.promise = $2 and p.folder = any($3::int[])`,
    [account.id, promise, await mailFolders(db, account)],
  );
  return found.map(({ id }) => id);
}
