import type { MessagePlace } from '../../core/archive/message-place';
import { WHOLE_MESSAGE } from '../../core/files/file';
import type { Amount } from '../../core/level/level';
import { printMultirange, type Ranges } from '../../core/sets/ranges';
import { type Queryable, row, rows, theRow } from '../database';
import type { LeftReason } from './runs';
import { setDigest } from './set-digest';

/** A message of the archive that a run is to put back. */
export interface PendingPutBack extends MessagePlace {
  id: number;
  /** The folder of its bag. */
  bag: string;
  sha256: string;
  /** The path of the folder that it was in. */
  folder: string;
  received: Date;
  flags: number;
  keywords: string[];
  begun: {
    state: 'appending' | 'standing';
    generation: number;
    uidNext: number;
    uid: number | null;
    size: number;
    sha256: string;
  } | null;
}

/** Freezes the set of a run that puts back: messages of an archive. */
export async function freezePutBack(
  db: Queryable,
  account: number,
  run: number,
  archiveOf: number,
  ids: readonly number[],
): Promise<{ digest: string } & Amount> {
  return theRow(
    db,
    `with found as materialized (
       select a.id, a.size from unnest($4::bigint[]) as w (id) cross join lateral (
         select id, size from archived where account = $3 and id = w.id offset 0) a),
     whole as (
       select coalesce(range_agg(int8range(id, id + 1)), '{}') as members, count(*)::int as messages, coalesce(sum(size), 0)::bigint as bytes
       from found)
     update run set archive_of = $3, members = whole.members, asked_messages = whole.messages, asked_bytes = whole.bytes
     from whole where run.account = $1 and run.id = $2
     returning asked_messages as messages, asked_bytes as bytes, ${setDigest('run.members')} as digest`,
    [account, run, archiveOf, ids],
  );
}

/** The numbers of archived messages that a run left for reasons that may be others by now. */
export async function leftPutBacks(db: Queryable, account: number, run: number): Promise<number[]> {
  const found = await rows<{ id: number }>(
    db,
    `select a.id from run r join run_left l on l.account = r.account and l.run = r.id cross join unnest(l.members) as span
     cross join lateral (
       select id from archived where account = r.archive_of and id >= lower(span) and id < upper(span) offset 0) a
     where r.account = $1 and r.id = $2 and r.action = 'put-back'`,
    [account, run],
  );
  return found.map(({ id }) => id);
}

/** What of a run that puts back was not dealt with, in the order of the archive, at most so many. */
export async function pendingPutBacks(
  db: Queryable,
  account: number,
  run: number,
  most: number,
): Promise<PendingPutBack[]> {
  return rows(
    db,
    `with pending as materialized (
       select r.archive_of as source, r.members
         - coalesce((select range_agg(int8range(archived, archived + 1)) from run_put_back
                     where account = r.account and run = r.id and state = 'standing'), '{}')
         - coalesce((select range_agg(members) from run_left where account = r.account and run = r.id), '{}') as members
       from run r where r.account = $1 and r.id = $2),
     next as materialized (
       select a.* from pending, unnest(pending.members) as span cross join lateral (
         select * from archived where account = pending.source and id >= lower(span) and id < upper(span)
         order by id limit $3) a order by a.id limit $3)
     select p.id, b.folder as bag, s.path, s.at, s.length, s.size, encode(s.sha256, 'hex') as sha256, f.path as folder,
       p.received, p.flags, p.keywords,
       (select json_build_object('state', w.state, 'generation', w.generation, 'uidNext', w.uid_next, 'uid', w.uid, 'size', w.size,
          'sha256', encode(w.sha256, 'hex'))
        from run_put_back w where w.account = $1 and w.run = $2 and w.archived = p.id) as begun
     from next p join bag b on b.account = p.account and b.id = p.bag
     join archive_folder f on f.account = p.account and f.id = p.folder
     cross join lateral (
       select * from bag_file where account = p.account and bag = p.bag and file = p.message * 512 + ${WHOLE_MESSAGE} offset 0) s
     order by p.id`,
    [account, run, most],
  );
}

/** A message that may be one of the archive: it has its size and its Message-ID. */
export interface Candidate {
  archived: number;
  generation: number;
  uid: number;
  size: number;
}

/** Messages of a size that are looked through for each, and of these how many may be the same. */
const MOST_OF_A_SIZE = 1_000;
const MOST_ALIKE = 8;

/** Messages in some folders of an account that may be the same as messages of an archive. */
export async function putBackCandidates(
  db: Queryable,
  account: number,
  archiveOf: number,
  ids: readonly number[],
  folders: readonly number[],
): Promise<Candidate[]> {
  return rows(
    db,
    `select w.id as archived, c.generation, c.uid, c.size from unnest($3::bigint[]) as w (id)
     cross join lateral (select size, message from archived where account = $2 and id = w.id offset 0) a
     cross join lateral (select message_id from message where account = $2 and id = a.message offset 0) m
     cross join lateral (
       select p.generation, p.uid, p.size from (
         select * from placement where account = $1 and size = a.size and gone_at is null limit ${MOST_OF_A_SIZE}) p
       cross join lateral (select message_id from message where account = $1 and id = p.message offset 0) o
       where p.folder = any($4::int[]) and o.message_id = m.message_id order by p.id limit ${MOST_ALIKE}) c`,
    [account, archiveOf, ids, folders],
  );
}

/** A run that is not over and puts back messages of a bag; undefined where there is none. */
export async function openPutBackOf(db: Queryable, account: number, bag: number): Promise<number | undefined> {
  const found = await row<{ id: number }>(
    db,
    `select r.id from run r where r.archive_of = $1 and r.state not in ('done', 'cancelled')
     and exists (select from archived a where a.account = $1 and a.bag = $2 and r.members @> a.id) limit 1`,
    [account, bag],
  );
  return found?.id;
}

/** Notes how much of a run that puts back was done. */
export async function notePutBacks(db: Queryable, account: number, run: number, workedMs: number): Promise<void> {
  await db.query(
    `update run set (done_messages, done_bytes) = (
       select count(*)::int, coalesce(sum(size), 0)::bigint from run_put_back where account = $1 and run = $2 and state = 'standing'),
       attempts = 0, worked_ms = worked_ms + $3
     where account = $1 and id = $2`,
    [account, run, Math.round(workedMs)],
  );
}

/** Notes that messages are not put back, and why; the same message is left once. */
export async function leavePutBacks(
  db: Queryable,
  account: number,
  run: number,
  reason: LeftReason,
  ids: Ranges,
): Promise<void> {
  await db.query(
    `with new as (
       select r.archive_of as source, $4::int8multirange
         - coalesce((select range_agg(members) from run_left where account = $1 and run = $2), '{}') as members
       from run r where r.account = $1 and r.id = $2),
     amount as (
       select count(a.id)::int as messages, coalesce(sum(a.size), 0)::bigint as bytes
       from new, unnest(new.members) as span cross join lateral (
         select id, size from archived where account = new.source and id >= lower(span) and id < upper(span) offset 0) a)
     insert into run_left as l (account, run, reason, members, messages, bytes)
     select $1, $2, $3, new.members, amount.messages, amount.bytes from new, amount where not isempty(new.members)
     on conflict (account, run, reason) do update
     set members = l.members + excluded.members, messages = l.messages + excluded.messages, bytes = l.bytes + excluded.bytes`,
    [account, run, reason, printMultirange(ids)],
  );
}

/** The placements that a run put back, as far as they are there. */
export async function placementsPutBack(db: Queryable, account: number, run: number): Promise<number[]> {
  const found = await rows<{ id: number }>(
    db,
    `select p.id from run_put_back w
     join placement p on p.account = w.account and p.generation = w.generation and p.uid = w.uid and p.gone_at is null and p.size = w.size
     where w.account = $1 and w.run = $2 order by p.id`,
    [account, run],
  );
  return found.map(({ id }) => id);
}

/** Folders in which messages of a run stand. */
export async function foldersOfPutBacks(db: Queryable, account: number, run: number): Promise<number[]> {
  const found = await rows<{ folder: number }>(
    db,
    `select distinct g.folder from run_put_back w join generation g on g.account = w.account and g.id = w.generation
     where w.account = $1 and w.run = $2`,
    [account, run],
  );
  return found.map(({ folder }) => folder);
}

/** What became of the messages of a run that puts back, in the order of their numbers, behind one, at most so many. */
export async function outcomesOfPutBacks(
  db: Queryable,
  account: number,
  run: number,
  after: number,
  most: number,
): Promise<{ id: number; outcome: string }[]> {
  return rows(
    db,
    `select a.id, case when exists (
         select from run_put_back w where w.account = $1 and w.run = $2 and w.archived = a.id and w.state = 'standing') then 'done'
       else coalesce((select reason from run_left l where l.account = $1 and l.run = $2 and l.members @> a.id), 'waiting') end as outcome
     from run r cross join unnest(r.members * int8multirange(int8range($3 + 1, null))) as span
     cross join lateral (
       select id from archived where account = r.archive_of and id >= lower(span) and id < upper(span) order by id limit $4) a
     where r.account = $1 and r.id = $2 order by a.id limit $4`,
    [account, run, after, most],
  );
}
