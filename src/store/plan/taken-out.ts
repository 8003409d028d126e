import type { Account } from '../access/accounts';
import { type Queryable, rows } from '../database';
import { mailFolders } from '../index/selection';
import { HELD_FILES } from './held';

/**
 * By lot of files in the plan, how many of its files were taken out of messages, and are in no message outside the trash any more:
 * they may be the only ones. Known of files that were read, as all were whose message says that they lie in the file space.
 */
export async function takenOutOfMail(db: Queryable, account: Account): Promise<Map<number, number>> {
  const found = await rows<{ lot: number; files: number }>(
    db,
    `with plan as materialized (
       select id, ${HELD_FILES} as files from lot where account = $1 and run is null and space is not null),
     read as materialized (
       select plan.id as lot, f.id as file, f.sha256 from plan cross join lateral unnest(plan.files) as span cross join lateral (
         select * from space_file where account = $1 and id >= lower(span) and id < upper(span) offset 0) f
       where f.sha256 is not null and f.gone_at is null),
     placed as materialized (
       select one.sha256, p.id, p.gone_at is null and p.folder = any($2::int[]) as lies from (select distinct sha256 from read) one
       cross join lateral (select * from file_digest where account = $1 and sha256 = one.sha256 offset 0) d
       cross join lateral (select * from placement where account = $1 and message = d.file / 512 offset 0) p),
     missing as (
       select placed.sha256 from placed left join run_rewrite w
         on w.account = $1 and w.placement = placed.id and w.state = 'standing'
       group by placed.sha256 having bool_or(w.placement is not null) and not bool_or(placed.lies))
     select read.lot, count(*)::int as files from read join missing using (sha256) group by read.lot`,
    [account.id, await mailFolders(db, account)],
  );
  return new Map(found.map(({ lot, files }) => [lot, files]));
}
