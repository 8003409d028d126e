import type { Criteria } from '../core/criteria/tree';
import type { Amount } from '../core/level/level';
import { parseMultirange, printMultirange, type Ranges, rangesOf } from '../core/sets/ranges';
import { type Account, nextNumber, nextVersion } from './accounts';
import { type Queryable, row, rows, theRow } from './database';
import { foldersOf } from './folders';
import { type GuardedSet, readGuarded } from './guards';
import { HELD } from './lots';
import { forgetFound } from './searches';
import { foldersInScope, type Scope, select } from './selection';

export type RunAction = 'trash' | 'purge' | 'restore';
export type RunState = 'queued' | 'running' | 'paused' | 'done' | 'cancelled' | 'failed';

/** Why a message of a run was left. */
export type LeftReason =
  | 'guarded'
  | 'held'
  | 'vanished'
  | 'moved'
  | 'changed'
  | 'no-room'
  | 'refused'
  | 'read-only'
  | 'folder-gone'
  | 'cancelled'
  | 'unknown';

/** Used as the server says (null without quota), and counted as the sum of sizes, to the octet. */
export interface LevelMark {
  used: number | null;
  counted: number;
  at: string;
}

export interface Run {
  id: number;
  action: RunAction;
  state: RunState;
  label: string;
  selector: Record<string, unknown>;
  asked: Amount;
  done: Amount;
  left: ({ reason: LeftReason } & Amount)[];
  before: LevelMark | null;
  after: LevelMark | null;
  wanted: 'pause' | 'cancel' | null;
  attempts: number;
  problem: { kind: string; detail: string } | null;
  fallback: number | null;
  createdAt: Date;
  startedAt: Date | null;
  endedAt: Date | null;
}

const COLUMNS = `id, action, state, label, selector,
  json_build_object('messages', asked_messages, 'bytes', asked_bytes) as asked,
  json_build_object('messages', done_messages, 'bytes', done_bytes) as done,
  coalesce((select json_agg(json_build_object('reason', l.reason, 'messages', l.messages, 'bytes', l.bytes) order by l.reason)
            from run_left l where l.account = run.account and l.run = run.id), '[]') as left,
  before_level as before, after_level as after, wanted, attempts, problem, fallback,
  created_at as "createdAt", started_at as "startedAt", ended_at as "endedAt"`;

export async function runsOf(db: Queryable, account: number): Promise<Run[]> {
  return rows<Run>(db, `select ${COLUMNS} from run where account = $1 order by id desc`, [account]);
}

export async function runById(db: Queryable, account: number, id: number): Promise<Run | undefined> {
  return row<Run>(db, `select ${COLUMNS} from run where account = $1 and id = $2`, [account, id]);
}

/** How the set of a run is named. `lots` are taken as they are frozen; the others are frozen by this. */
export type RunSelector =
  | { lots: number[] }
  | { where: Criteria; text: string }
  | { ids: number[] }
  | { folder: number }
  | { run: number };

/** Freezes the set of a run: live placements within a scope. Gives it as a multirange, with its amount. */
export async function freeze(
  db: Queryable,
  account: Account,
  selector: RunSelector,
  scope: Scope,
  now: Date,
): Promise<{ members: string } & Amount> {
  const folders = await foldersOf(db, account.id);
  const inScope = foldersInScope(folders, scope, account.settings.trashFolder);
  const aggregate = `select coalesce(range_agg(int8range(p.id, p.id + 1)), '{}')::text as members,
    count(*)::int as messages, coalesce(sum(p.size), 0)::bigint as bytes`;
  if ('where' in selector) {
    const { sql, values } = await select(db, account, selector.where, scope, now, false);
    return theRow(db, `${aggregate} ${sql}`, values);
  }
  if ('ids' in selector || 'folder' in selector) {
    const [condition, value] =
      'ids' in selector ? ['p.id = any($3::bigint[])', selector.ids] : ['p.folder = $3::int', selector.folder];
    return theRow(
      db,
      `${aggregate} from placement p where p.account = $1 and p.gone_at is null and p.folder = any($2::int[]) and ${condition}`,
      [account.id, inScope, value],
    );
  }
  const [source, value] =
    'lots' in selector
      ? [`select range_agg(${HELD}) from lot where account = $1 and run is null and id = any($3::int[])`, selector.lots]
      : ['select members from run where account = $1 and id = $3::int', selector.run];
  return theRow(
    db,
    `with span as (select unnest((${source})) as span)
     ${aggregate} from span join placement p on p.account = $1 and p.id >= lower(span) and p.id < upper(span)
     where p.gone_at is null and p.folder = any($2::int[])`,
    [account.id, inScope, value],
  );
}

export async function createRun(
  db: Queryable,
  account: number,
  run: {
    action: RunAction;
    label: string;
    selector: Record<string, unknown>;
    members: string;
    asked: Amount;
    fallback: number | null;
    lots: number[];
  },
): Promise<Run> {
  const id = await nextNumber(db, account, 'run');
  await db.query(
    `insert into run (account, id, action, label, selector, members, fallback, asked_messages, asked_bytes)
     values ($1, $2, $3, $4, $5, $6::int8multirange, $7, $8, $9)`,
    [
      account,
      id,
      run.action,
      run.label,
      JSON.stringify(run.selector),
      run.members,
      run.fallback,
      run.asked.messages,
      run.asked.bytes,
    ],
  );
  if (run.lots.length > 0) {
    await db.query(
      `update run set passed = (select range_agg(passed) from lot where account = $1 and id = any($3::int[])) where account = $1 and id = $2`,
      [account, id, run.lots],
    );
    await db.query('update lot set run = $2 where account = $1 and id = any($3::int[])', [account, id, run.lots]);
  }
  return (await runById(db, account, id)) as Run;
}

export async function updateRun(
  db: Queryable,
  account: number,
  id: number,
  change: {
    state?: RunState;
    before?: LevelMark;
    after?: LevelMark;
    problem?: Run['problem'];
    attempts?: number;
    wanted?: Run['wanted'];
  },
): Promise<void> {
  await db.query(
    `update run set state = coalesce($3, state),
       started_at = case when $3 = 'running' then coalesce(started_at, now()) else started_at end,
       ended_at = case when $3 in ('done', 'cancelled', 'failed') then now() when $3 is not null then null else ended_at end,
       before_level = coalesce(before_level, $4::jsonb), after_level = coalesce($5::jsonb, after_level),
       problem = case when $6 then $7::jsonb else problem end, attempts = coalesce($8, attempts),
       wanted = case when $9 then $10 else wanted end
     where account = $1 and id = $2`,
    [
      account,
      id,
      change.state ?? null,
      change.before ? JSON.stringify(change.before) : null,
      change.after ? JSON.stringify(change.after) : null,
      change.problem !== undefined,
      change.problem ? JSON.stringify(change.problem) : null,
      change.attempts ?? null,
      change.wanted !== undefined,
      change.wanted ?? null,
    ],
  );
}

/** A placement that a run has still to deal with. */
export interface PendingPlacement {
  id: number;
  generation: number;
  folder: number;
  uid: number;
  size: number;
  origin: number | null;
}

/** The members that no batch and no reason of being left has dealt with: those that live, by folder and UID. */
export async function pendingOf(db: Queryable, account: number, run: number): Promise<PendingPlacement[]> {
  return rows<PendingPlacement>(
    db,
    `${PENDING} select p.id, p.generation, p.folder, p.uid, p.size, p.origin
     from pending join placement p on p.account = $1 and p.id >= lower(span) and p.id < upper(span)
     where p.gone_at is null order by p.generation, p.uid`,
    [account, run],
  );
}

/** The pending members that are gone from the index already. */
export async function vanishedOf(db: Queryable, account: number, run: number): Promise<number[]> {
  const found = await rows<{ id: number }>(
    db,
    `${PENDING} select p.id from pending join placement p on p.account = $1 and p.id >= lower(span) and p.id < upper(span) where p.gone_at is not null`,
    [account, run],
  );
  return found.map(({ id }) => id);
}

const PENDING = `
  with pending as (
    select unnest(r.members
      - coalesce((select range_agg(b.members) from run_batch b where b.account = r.account and b.run = r.id and b.state <> 'planned'), '{}')
      - coalesce((select range_agg(l.members) from run_left l where l.account = r.account and l.run = r.id), '{}')) as span
    from run r where r.account = $1 and r.id = $2)`;

/** The pending members that a guard keeps now, let through in no lot, and those that a hold keeps. */
export async function keptOf(
  db: Queryable,
  account: Account,
  run: number,
): Promise<Record<'guarded' | 'held', number[]>> {
  const { sets } = await readGuarded(db, account, new Date());
  const kept = async (which: GuardedSet[], passed: string) => {
    const found = await rows<{ id: number }>(
      db,
      `${PENDING} select p.id from pending, run r join placement p on p.account = $1
       where r.account = $1 and r.id = $2 and p.id >= lower(span) and p.id < upper(span) and p.gone_at is null
         and p.id <@ (coalesce((select range_agg(s) from unnest($3::int8multirange[]) s), '{}') - ${passed})`,
      [account.id, run, which.map(({ members }) => printMultirange(members))],
    );
    return found.map(({ id }) => id);
  };
  return {
    held: await kept(
      sets.filter(({ kind }) => kind === 'hold'),
      `'{}'::int8multirange`,
    ),
    guarded: await kept(
      sets.filter(({ kind }) => kind !== 'hold'),
      'r.passed',
    ),
  };
}

/** Notes that messages are left, and why; the same message is left once. */
export async function leave(
  db: Queryable,
  account: number,
  run: number,
  reason: LeftReason,
  ids: readonly number[],
): Promise<void> {
  if (ids.length === 0) return;
  await db.query(
    `with new as (
       select $4::int8multirange - coalesce((select range_agg(members) from run_left where account = $1 and run = $2), '{}') as members),
     amount as (
       select count(p.id)::int as messages, coalesce(sum(p.size), 0)::bigint as bytes
       from new, unnest(new.members) span join placement p on p.account = $1 and p.id >= lower(span) and p.id < upper(span))
     insert into run_left as l (account, run, reason, members, messages, bytes)
     select $1, $2, $3, new.members, amount.messages, amount.bytes from new, amount where not isempty(new.members)
     on conflict (account, run, reason) do update
     set members = l.members + excluded.members, messages = l.messages + excluded.messages, bytes = l.bytes + excluded.bytes`,
    [account, run, reason, printMultirange(rangesOf(ids))],
  );
}

/** One command's worth of a run. */
export interface Batch {
  seq: number;
  generation: number;
  members: Ranges;
  destination: number | null;
  destinationValidity: number | null;
  destinationUidNext: number | null;
}

/** Writes down what is about to be sent. */
export async function beginBatch(
  db: Queryable,
  account: number,
  run: number,
  batch: Omit<Batch, 'seq' | 'members'> & { ids: readonly number[] },
): Promise<number> {
  const { seq } = await theRow<{ seq: number }>(
    db,
    `insert into run_batch (account, run, seq, generation, members, destination, state, destination_validity, destination_uid_next)
     select $1, $2, coalesce(max(seq), 0) + 1, $3, $4::int8multirange, $5, 'sent', $6, $7 from run_batch where account = $1 and run = $2
     returning seq`,
    [
      account,
      run,
      batch.generation,
      printMultirange(rangesOf(batch.ids)),
      batch.destination,
      batch.destinationValidity,
      batch.destinationUidNext,
    ],
  );
  return seq;
}

/** The batches whose fate is unknown: sent, and never closed. */
export async function openBatches(db: Queryable, account: number, run: number): Promise<Batch[]> {
  const open = await rows<Omit<Batch, 'members'> & { members: string }>(
    db,
    `select seq, generation, members::text as members, destination, destination_validity as "destinationValidity",
            destination_uid_next as "destinationUidNext"
     from run_batch where account = $1 and run = $2 and state = 'sent' order by seq`,
    [account, run],
  );
  return open.map((batch) => ({ ...batch, members: parseMultirange(batch.members) }));
}

/**
 * Closes a batch: what was done is counted, and what was not is pending again.
 *
 * @param done ids of the placements that the server confirmed.
 */
export async function closeBatch(
  db: Queryable,
  account: number,
  run: number,
  seq: number,
  done: readonly number[],
): Promise<void> {
  const members = printMultirange(rangesOf(done));
  await db.query(
    `update run_batch set state = 'done', done_members = $4::int8multirange, members = $4::int8multirange where account = $1 and run = $2 and seq = $3`,
    [account, run, seq, members],
  );
  await db.query(
    `update run set done_messages = done_messages + amount.messages, done_bytes = done_bytes + amount.bytes, attempts = 0
     from (select count(*)::int as messages, coalesce(sum(size), 0)::bigint as bytes from placement where account = $1 and id = any($3::bigint[])) amount
     where run.account = $1 and run.id = $2`,
    [account, run, done],
  );
}

/** Placements by id, tombstones included. */
export async function placementsById(
  db: Queryable,
  account: number,
  ids: Iterable<number>,
): Promise<(PendingPlacement & { gone: boolean })[]> {
  return rows(
    db,
    `select id, generation, folder, uid, size, origin, gone_at is not null as gone from placement where account = $1 and id = any($2::bigint[]) order by uid`,
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
    `update placement set gone_at = now(), changed = $5
     where account = $1 and generation = $2 and gone_at is null and uid = any($3::bigint[]) and id <> all($4::bigint[])`,
    [account, to.generation, uids, ids, version],
  );
  await db.query(
    `update placement p set origin = case when $6::int is null then null else p.folder end, trashed_by = $6::int,
       folder = $2, generation = $3, uid = move.uid, gone_at = null, changed = $7
     from unnest($4::bigint[], $5::bigint[]) as move (id, uid) where p.account = $1 and p.id = move.id`,
    [account, to.folder, to.generation, ids, uids, trashedBy, version],
  );
}

/** Tombstones of a purge of ours. */
export async function purgePlacements(
  db: Queryable,
  account: number,
  ids: readonly number[],
  run: number,
): Promise<void> {
  await db.query(
    `update placement set gone_at = coalesce(gone_at, now()), purged_by = $3, changed = $4
     where account = $1 and id = any($2::bigint[])`,
    [account, ids, run, await nextVersion(db, account)],
  );
}

/** Tombstones of what the server has no more. */
export async function losePlacements(db: Queryable, account: number, ids: readonly number[]): Promise<void> {
  await db.query(
    'update placement set gone_at = coalesce(gone_at, now()), changed = $3 where account = $1 and id = any($2::bigint[])',
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
): Promise<number[]> {
  const found = await rows<{ uid: number }>(
    db,
    `select uid from placement where account = $1 and generation = $2 and uid >= $3 and gone_at is null
     and id <@ (select coalesce(range_agg(done_members), '{}') from run_batch where account = $1 and run = $4)`,
    [account, generation, uid, run],
  );
  return found.map((placement) => placement.uid);
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
     from placement p join message m on m.account = p.account and m.id = p.message
     where p.account = $1 and p.id = any($2::bigint[]) order by p.uid`,
    [account, ids],
  );
}
