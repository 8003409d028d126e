import type { Amount } from '../../core/level/level';
import { parseMultirange, type Ranges } from '../../core/sets/ranges';
import { type Queryable, theRow } from '../database';
import { placementsIn } from '../index/spans';
import { HELD } from './held';

/**
 * What lies in some folders since before an instant, and how many messages lie there of which nobody knows since when.
 *
 * @param byReceipt whether the day on which a message was received stands in for the one on which it went there, where that is not
 *   known.
 */
export async function lyingSince(
  db: Queryable,
  account: number,
  folders: readonly number[],
  before: Date,
  byReceipt: boolean,
): Promise<{ members: Ranges; undated: number }> {
  const { members, undated } = await theRow<{ members: string; undated: number }>(
    db,
    `select coalesce(range_agg(int8range(p.id, p.id + 1)) filter (
         where coalesce(p.placed_at, case when $4 then p.received end) < $3), '{}')::text as members,
       count(*) filter (where p.placed_at is null)::int as undated
     from placement p where p.account = $1 and p.gone_at is null and p.folder = any($2::int[])`,
    [account, folders, before, byReceipt],
  );
  return { members: parseMultirange(members), undated };
}

/** What lies in some folders now. */
export async function amountIn(db: Queryable, account: number, folders: readonly number[]): Promise<Amount> {
  return theRow<Amount>(
    db,
    `select count(*)::int as messages, coalesce(sum(size), 0)::bigint as bytes
     from placement where account = $1 and gone_at is null and folder = any($2::int[])`,
    [account, folders],
  );
}

/** What of a lot lies in some folders; what guards keep is left out. */
export async function amountOfLotIn(
  db: Queryable,
  account: number,
  lot: number,
  folders: readonly number[],
): Promise<Amount> {
  return theRow<Amount>(
    db,
    `select count(p.id)::int as messages, coalesce(sum(p.size), 0)::bigint as bytes
     from lot cross join ${placementsIn(HELD)}
     where lot.account = $1 and lot.id = $2 and p.gone_at is null and p.folder = any($3::int[])`,
    [account, lot, folders],
  );
}
