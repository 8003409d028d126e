import { parseMultirange, type Ranges } from '../../core/sets/ranges';
import { nextVersion } from '../access/accounts';
import { overWholeAccount, type Queryable, rows, theRow } from '../database';
import { PREDECESSORS } from './folders';
import type { PendingPlacement } from './placements';
import { forgetFound } from './searches';
import { placementsIn, placementsOf, THEIR_MESSAGE } from './spans';

/** Placements by id, tombstones included. */
export async function placementsById(
  db: Queryable,
  account: number,
  ids: Iterable<number>,
): Promise<(PendingPlacement & { gone: boolean })[]> {
  return rows(
    db,
    `select p.id, generation, folder, uid, size, origin, flags, gone_at is not null as gone from ${placementsOf('$2::bigint[]')} order by uid`,
    [account, [...ids]],
  );
}

/**
 * Puts placements where the server has moved them. What a scan may have found there meanwhile was the same messages,
 * and gives way to the placements that were there first.
 *
 * @param trashedBy the run, for a move to the trash; null for a move out of it.
 */
export async function movePlacements(
  db: Queryable,
  account: number,
  moves: readonly { id: number; uid: number }[],
  to: { folder: number; generation: number },
  trashedBy: number | null,
): Promise<void> {
  const ids = moves.map(({ id }) => id);
  const uids = moves.map(({ uid }) => uid);
  const version = await nextVersion(db, account);
  await forgetFound(db, account, to.generation);
  await db.query(
    `update placement set gone_at = now(), changed = $4
     from (select p.account, p.id from unnest($3::bigint[]) as arrived (uid) cross join lateral (
             select * from placement where account = $1 and generation = $2 and gone_at is null and uid = arrived.uid offset 0) p
           except select $1::bigint, unnest($5::bigint[])) other
     where placement.account = other.account and placement.id = other.id`,
    [account, to.generation, uids, version, ids],
  );
  await db.query(
    `update placement p set origin = case when $6::int is null then null else p.folder end, trashed_by = $6::int,
       folder = $2, generation = $3, uid = move.uid, gone_at = null,
       placed_at = now(), changed = $7
     from (select $1::bigint as account, * from unnest($4::bigint[], $5::bigint[]) as row (id, uid) offset 0) move
     where p.account = move.account and p.id = move.id`,
    [account, to.folder, to.generation, ids, uids, trashedBy, version],
  );
}

/** The placements whose ids are in an array, $2, to be changed: store/index/spans says why not by the account alone. */
const THESE = '(select $1::bigint as account, id from unnest($2::bigint[]) as row (id) offset 0) these';

/** Tombstones of a purge of ours. */
export async function purgePlacements(
  db: Queryable,
  account: number,
  ids: readonly number[],
  run: number,
): Promise<void> {
  await db.query(
    `update placement set gone_at = coalesce(placement.gone_at, now()), purged_by = $3, changed = $4
     from ${THESE} where placement.account = these.account and placement.id = these.id`,
    [account, ids, run, await nextVersion(db, account)],
  );
}

/** Tombstones of what the server has no more. */
export async function losePlacements(db: Queryable, account: number, ids: readonly number[]): Promise<void> {
  await db.query(
    `update placement set gone_at = coalesce(placement.gone_at, now()), changed = $3
     from ${THESE} where placement.account = these.account and placement.id = these.id`,
    [account, ids, await nextVersion(db, account)],
  );
}

/** UIDs of a generation from one on that hold what closed batches of the run brought there. */
export async function broughtUids(
  db: Queryable,
  account: number,
  generation: number,
  uid: number,
  run: number,
): Promise<Ranges> {
  const { uids } = await theRow<{ uids: string }>(
    db,
    `select coalesce(range_agg(int8range(p.uid, p.uid + 1)), '{}')::text as uids
     from run_batch b cross join ${placementsIn('b.done_members')}
     where b.account = $1 and b.run = $4 and p.generation = $2 and p.uid >= $3 and p.gone_at is null`,
    [account, generation, uid, run],
  );
  return parseMultirange(uids);
}

/** By what a message is recognised when its UID is not known: EMAILID, else Message-ID, size and INTERNALDATE together. */
export interface Identity {
  id: number;
  emailId: string | null;
  messageId: string;
  size: number;
  received: Date;
}

export async function identitiesOf(db: Queryable, account: number, ids: readonly number[]): Promise<Identity[]> {
  return rows<Identity>(
    db,
    `select p.id, m.email_id as "emailId", m.message_id as "messageId", p.size, p.received
     from ${placementsOf('$2::bigint[]')} ${THEIR_MESSAGE} order by p.uid`,
    [account, ids],
  );
}

/** The same of what came into a generation since an id: what a scan found there that it did not know. */
export async function freshIdentitiesIn(
  db: Queryable,
  account: number,
  generation: number,
  fromId: number,
): Promise<(Identity & { uid: number })[]> {
  return rows(
    db,
    `select p.id, p.uid, m.email_id as "emailId", m.message_id as "messageId", p.size, p.received
     from placement p join message m on m.account = p.account and m.id = p.message
     where p.account = $1 and p.generation = $2 and p.gone_at is null and p.id >= $3 order by p.uid`,
    [account, generation, fromId],
  );
}

/**
 * Looks for the messages of generations that were closed in the one that followed, after that was read in full: by
 * EMAILID, else by Message-ID, size and INTERNALDATE together, and only where one stands against one. A message that is
 * found keeps its placement, so that lots and runs go on to mean it; what was read anew gives way.
 *
 * A generation is followed by another of the same folder, or, where its folder is gone, by one of the same UIDVALIDITY
 * in a folder of another name: that was renamed (RFC 9051 §6.3.6).
 */
export async function relinkAfterUidValidityChange(
  db: Queryable,
  account: number,
  to: { folder: number; generation: number; uidValidity: number },
): Promise<number> {
  const closed = await rows<{ id: number }>(db, `select g.id ${PREDECESSORS}`, [
    account,
    to.folder,
    to.uidValidity,
    to.generation,
  ]);
  if (closed.length === 0) return 0;
  await overWholeAccount(db);
  const generations = closed.map(({ id }) => id);
  const keyed = (condition: string) => `select p.id, coalesce(m.email_id,
      format('%s %s %s', m.message_id, p.size, extract(epoch from p.received)::bigint)) as key
    from placement p join message m on m.account = p.account and m.id = p.message
    where p.account = $1 and (m.email_id is not null or m.message_id <> '') and ${condition}`;
  const pairs = await rows<{ old: number; new: number }>(
    db,
    `with old as (${keyed(`p.generation = any($2::int[]) and exists (
         select 1 from generation g where g.account = $1 and g.id = p.generation and g.closed_at = p.gone_at)`)}),
     new as (${keyed('p.generation = $3 and p.gone_at is null')})
     select min(o.id) as old, min(n.id) as new from old o join new n using (key)
     group by key having count(distinct o.id) = 1 and count(distinct n.id) = 1`,
    [account, generations, to.generation],
  );
  if (pairs.length > 0) {
    const version = await nextVersion(db, account);
    const olds = pairs.map((pair) => pair.old);
    const news = pairs.map((pair) => pair.new);
    await db.query('update placement set gone_at = now(), changed = $3 where account = $1 and id = any($2::bigint[])', [
      account,
      news,
      version,
    ]);
    await db.query(
      `update placement p set folder = n.folder, generation = n.generation, uid = n.uid, flags = n.flags,
         keywords = n.keywords, gone_at = null, changed = $4
       from unnest($2::bigint[], $3::bigint[]) as pair (old, new) join placement n on n.account = $1 and n.id = pair.new
       where p.account = $1 and p.id = pair.old`,
      [account, olds, news, version],
    );
  }
  await db.query('update generation set succeeded = true where account = $1 and id = any($2::int[])', [
    account,
    generations,
  ]);
  return pairs.length;
}
