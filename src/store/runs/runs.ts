import type { Shrinking } from '../../core/files/shrinking';
import type { QuotaSnapshot } from '../../core/ledger/balance';
import type { RunState } from '../../core/ledger/run-state';
import type { Amount } from '../../core/level/level';
import { type Fate, isOfFiles } from '../../core/plan/fates';
import { nextNumber } from '../access/accounts';
import { type Queryable, row, rows } from '../database';

/**
 * What a run does with its messages. `put-back`: it appends messages of the archive. `archive`: it saves them in a bag, and brings to the trash what was read back from there. The
 * fates of files: it puts one that lost files beside each, and brings it to the trash then.
 */
export type RunAction = Fate | 'restore' | 'put-back';

/** Why a message of a run was left. */
export type LeftReason =
  | 'guarded'
  | 'held'
  /** No copy of it would stay, though its lot promised that. */
  | 'last-copy'
  | 'vanished'
  | 'moved'
  | 'changed'
  | 'no-room'
  | 'refused'
  | 'read-only'
  | 'folder-gone'
  | 'cancelled'
  | 'unknown'
  /** Of messages that lose files: what a signature covers, or what is encrypted, would change. */
  | 'signed'
  | 'encrypted'
  /** The file's place in the message is not certain, or it is another form of the text. */
  | 'malformed'
  | 'alternative'
  /** A file, or a message that is to be archived, has no copy that was read back; or the message is not what was saved. */
  | 'unchecked'
  | 'differs'
  /** It would not become smaller, or not by enough. */
  | 'no-gain'
  /** No picture in it can be decoded. */
  | 'not-decoded'
  /** Of messages that are put back: the same lies in the mailbox; or it is not any more what was saved. */
  | 'there'
  | 'damaged'
  /** Of files of a file space: somebody has it open. */
  | 'locked';

/** What a run is doing: reading the level, saving messages and reading them back, finding out what became of what was sent, choosing what is next, looking at it, ... */
export type RunPhase =
  | 'measuring'
  | 'saving'
  | 'putting-back'
  | 'recovering'
  | 'planning'
  | 'checking'
  | 'taking-out'
  | 'carrying-out'
  | 'concluding';

export interface Run {
  id: number;
  action: RunAction;
  /** The bag that it writes; null where it writes none. */
  bag: number | null;
  /** The account whose archive it puts messages back from; null of all other actions. */
  archiveOf: number | null;
  /** How it makes pictures smaller; null of all other actions. */
  shrinking: Shrinking | null;
  /** The file space on whose files it works, which are counted as messages are then; null: it works on messages. */
  space: number | null;
  state: RunState;
  label: string;
  selector: Record<string, unknown>;
  asked: Amount;
  done: Amount;
  /** What was put in the place of messages that lost files. */
  added: Amount;
  left: ({ reason: LeftReason } & Amount)[];
  before: QuotaSnapshot | null;
  after: QuotaSnapshot | null;
  /** The server's figure once it had followed, or the last look that was taken; null while it is not known. */
  settled: QuotaSnapshot | null;
  /** Who, and how: from the page, by a script with the token of this number, by a date of a standing lot, or by a round of an operator. */
  askedBy: {
    user?: string;
    via?: 'page' | 'script' | 'standing' | 'round';
    token?: number;
    standing?: number;
    day?: string;
    round?: number;
  };
  /** What can still be taken back: what this run brought to the trash and lies there now. */
  undo: Amount;
  /** Milliseconds of work, pauses and waits left out. */
  workedMs: number;
  wanted: 'pause' | 'cancel' | null;
  attempts: number;
  problem: { kind: string; detail: string } | null;
  /** What it is doing now, and with how many messages; null while it does nothing. */
  doing: { phase: RunPhase; messages: number } | null;
  fallback: number | null;
  freshFrom: number | null;
  handsOver: boolean;
  createdAt: Date;
  startedAt: Date | null;
  endedAt: Date | null;
}

const COLUMNS = `id, action, bag, archive_of as "archiveOf", shrinking, space, state, label, selector,
  json_build_object('messages', asked_messages, 'bytes', asked_bytes) as asked,
  json_build_object('messages', done_messages, 'bytes', done_bytes) as done,
  case when space is null then (
    select json_build_object('messages', count(*), 'bytes', coalesce(sum(w.size), 0)) from run_rewrite w
    where w.account = run.account and w.run = run.id and w.state = 'standing')
  else (
    select json_build_object('messages', count(*), 'bytes', coalesce(sum(w.made_bytes), 0)) from run_file w
    where w.account = run.account and w.run = run.id and w.state = 'done' and w.made_bytes is not null) end as added,
  coalesce((select json_agg(json_build_object('reason', l.reason, 'messages', l.messages, 'bytes', l.bytes) order by l.reason)
            from run_left l where l.account = run.account and l.run = run.id), '[]') as left,
  case when action = 'put-back' then (
    select json_build_object('messages', count(*), 'bytes', coalesce(sum(p.size), 0)) from run_put_back w
    join placement p on p.account = w.account and p.generation = w.generation and p.uid = w.uid and p.gone_at is null
      and p.size = w.size
    where w.account = run.account and w.run = run.id)
  when space is not null then (
    select json_build_object('messages', count(*), 'bytes', coalesce(sum(f.bytes), 0)) from space_file f
    where f.account = run.account and f.trashed_by = run.id and f.gone_at is null)
  else (
    select json_build_object('messages', count(*), 'bytes', coalesce(sum(p.size), 0)) from placement p
    where p.account = run.account and p.trashed_by = run.id and p.gone_at is null) end as undo,
  before_level as before, after_level as after, settled, asked_by as "askedBy", worked_ms as "workedMs",
  wanted, attempts, coalesce(problem, case when refusal is not null then jsonb_build_object('kind', refusal_kind, 'detail', refusal) end) as problem,
  case when state = 'running' then doing end as doing, fallback, fresh_from as "freshFrom", hands_over as "handsOver",
  created_at as "createdAt", started_at as "startedAt", ended_at as "endedAt"`;

/** Whether a run brings messages to the trash. */
export function bringsToTrash({ action }: Pick<Run, 'action'>): boolean {
  return action === 'trash' || action === 'archive' || isOfFiles(action);
}

export async function runsOf(db: Queryable, account: number): Promise<Run[]> {
  return rows<Run>(db, `select ${COLUMNS} from run where account = $1 order by id desc`, [account]);
}

export async function runById(db: Queryable, account: number, id: number): Promise<Run | undefined> {
  return row<Run>(db, `select ${COLUMNS} from run where account = $1 and id = $2`, [account, id]);
}

/** Makes a run without members, which are frozen into it (store/runs/frozen). Gives its number. */
export async function createRun(
  db: Queryable,
  account: number,
  run: {
    action: RunAction;
    label: string;
    selector: Record<string, unknown>;
    fallback: number | null;
    askedBy: Run['askedBy'];
  },
): Promise<number> {
  const id = await nextNumber(db, account, 'run');
  await db.query(
    `insert into run (account, id, action, label, selector, members, fallback, asked_messages, asked_bytes, asked_by, fresh_from)
     values ($1, $2, $3, $4, $5, '{}', $6, 0, 0, $7, (select next_id from account where id = $1))`,
    [account, id, run.action, run.label, JSON.stringify(run.selector), run.fallback, JSON.stringify(run.askedBy)],
  );
  return id;
}

/** Has a run write a bag. */
export async function giveBag(db: Queryable, account: number, run: number, bag: number): Promise<void> {
  await db.query('update run set bag = $3 where account = $1 and id = $2', [account, run, bag]);
}

/** Lots are carried out by a run, with what the user let through in them although a guard keeps it. */
export async function handLots(db: Queryable, account: number, run: number, lots: readonly number[]): Promise<void> {
  if (lots.length === 0) return;
  await db.query(
    `update run set passed = (select range_agg(guard_overrides) from lot where account = $1 and id = any($3::int[])) where account = $1 and id = $2`,
    [account, run, lots],
  );
  await db.query('update lot set run = $2 where account = $1 and id = any($3::int[])', [account, run, lots]);
}

export async function updateRun(
  db: Queryable,
  account: number,
  id: number,
  change: {
    state?: RunState;
    before?: QuotaSnapshot;
    after?: QuotaSnapshot;
    problem?: Run['problem'];
    attempts?: number;
    wanted?: Run['wanted'];
    settled?: QuotaSnapshot;
    handsOver?: boolean;
    doing?: Run['doing'];
  },
): Promise<void> {
  await db.query(
    `update run set state = coalesce($3, state),
       started_at = case when $3 = 'running' then coalesce(started_at, now()) else started_at end,
       ended_at = case when $3 in ('done', 'cancelled', 'failed') then now() when $3 is not null then null else ended_at end,
       before_level = coalesce(before_level, $4::jsonb), after_level = coalesce($5::jsonb, after_level),
       problem = case when $6 then $7::jsonb else problem end, attempts = coalesce($8, attempts),
       wanted = case when $9 then $10 else wanted end,
       settled = coalesce($11::jsonb, settled), hands_over = coalesce($12, hands_over),
       doing = coalesce($13::jsonb, doing)
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
      change.settled ? JSON.stringify(change.settled) : null,
      change.handsOver ?? null,
      change.doing ? JSON.stringify(change.doing) : null,
    ],
  );
}

/** Keeps what the server said when it refused something, for as long as the run has no other problem. */
export async function noteRefusal(
  db: Queryable,
  account: number,
  id: number,
  { kind, message }: { kind: string; message: string },
): Promise<void> {
  await db.query('update run set refusal_kind = $3, refusal = $4 where account = $1 and id = $2', [
    account,
    id,
    kind,
    message,
  ]);
}

/** Runs that stopped because there were no credentials that could be used, in their order. */
export async function runsToSignInFor(db: Queryable, account: number): Promise<number[]> {
  const stopped = await rows<{ id: number }>(
    db,
    `select id from run where account = $1 and state = 'failed' and problem ->> 'kind' = 'sign-in-needed' order by id`,
    [account],
  );
  return stopped.map(({ id }) => id);
}

/** Purges whose end the server's figure had not followed when it was last read, ended since an instant. */
export async function unconfirmedPurges(db: Queryable, account: number, since: Date): Promise<Run[]> {
  return rows<Run>(
    db,
    `select ${COLUMNS} from run where account = $1 and action = 'purge' and settled is null and ended_at >= $2
     and state in ('done', 'cancelled') and before_level ->> 'used' is not null order by id`,
    [account, since],
  );
}

/** What the user wants of a run that goes: looked at before every batch, so it reads that alone. */
export async function wantedOf(db: Queryable, account: number, id: number): Promise<Run['wanted']> {
  const run = await row<Pick<Run, 'wanted'>>(db, 'select wanted from run where account = $1 and id = $2', [
    account,
    id,
  ]);
  return run?.wanted ?? null;
}

/** Adds to the time that was worked on a run. */
export async function addWorked(db: Queryable, account: number, id: number, milliseconds: number): Promise<void> {
  await db.query('update run set worked_ms = worked_ms + $3 where account = $1 and id = $2', [
    account,
    id,
    Math.round(milliseconds),
  ]);
}
