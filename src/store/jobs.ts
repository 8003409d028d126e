import { dropForgotten } from './access/credentials';
import { type Database, type Queryable, row, rows, theRow, transaction } from './database';
import { wake } from './events';

export interface Job {
  account: number;
  id: number;
  kind:
    | 'scan'
    | 'run'
    | 'search'
    | 'quota-check'
    | 'save'
    | 'read-bag'
    | 'repair'
    | 'bring-in'
    | 'read-ways'
    | 'prove'
    | 'ask-to-stop'
    | 'open'
    | 'list-space'
    | 'upload';
  /** Number of the scan, run, search, look, bag, file space or upload; 0 of what is done for the account as a whole. */
  subject: number;
  /** Times in a row that it was taken, this one included, and neither ended, nor was given back, nor got on. */
  takes: number;
  /** It has so much to do that only some of that kind are done at a time. */
  large: boolean;
}

/** What a worker can take. */
export interface Capacity {
  /** Whether a large job. */
  large: boolean;
  /** Jobs of one host that are done at a time, by all workers. */
  perHost: number;
  /** Whether one that may have ended its worker more than once: it is done alone, so that no other pays for it. */
  suspect: boolean;
}

/** Times in a row from which on a job that is taken may be what ends its workers. */
const SUSPECT_TAKES = 2;

/** Whether a job that was taken may be what ended the workers before. */
export function isSuspect({ takes }: Job): boolean {
  return takes > SUSPECT_TAKES;
}

/** The lease of a job is in other hands: what was about to be written must not be. */
export class LeaseLost extends Error {}

/**
 * Enqueues work; the same work that is open already is not doubled.
 *
 * @param wait seconds before it is taken.
 */
export async function enqueue(
  db: Queryable,
  account: number,
  kind: Job['kind'],
  subject: number,
  wait = 0,
): Promise<void> {
  await db.query(
    `insert into job (account, kind, subject, not_before) values ($1, $2, $3, now() + make_interval(secs => $4))
     on conflict (account, kind, subject) where done_at is null do nothing`,
    [account, kind, subject, wait],
  );
  await wake(db);
}

/** Whether work waits or is being done. */
export async function isOpen(db: Queryable, account: number, kind: Job['kind'], subject: number): Promise<boolean> {
  const found = await row(
    db,
    'select 1 from job where account = $1 and kind = $2 and subject = $3 and done_at is null',
    [account, kind, subject],
  );
  return found !== undefined;
}

/** A job that somebody may take, of an account none of whose jobs is being done or is about to be tried again. */
const TAKEABLE = `j.done_at is null and j.not_before <= now() and (j.lease_until is null or j.lease_until < now())
  and not exists (select 1 from job b where b.account = j.account and b.done_at is null
                  and (b.lease_until >= now() or (b.begun_at is not null and b.not_before > now())))`;

/** Jobs of the host of account a that are being done. */
const OF_HOST = `(select count(*) from job h join account ha on ha.id = h.account
  where h.done_at is null and h.lease_until >= now() and ha.host = a.host)`;

/**
 * Takes the job that waits longest under a lease: of each account one at a time, one that was begun before any other, and of
 * each host so many.
 *
 * The row of the account is locked while its jobs are looked at, so that two workers never take two jobs of it, but not
 * against rows that refer to it, which who holds a job writes all the time; the second statement sees what was committed
 * before that lock was got. The job's own row is waited for while whoever held it is writing under `holdLease`, and passed by
 * if it was kept meanwhile.
 */
export async function takeJob(
  database: Database,
  worker: string,
  leaseSeconds: number,
  { large, perHost, suspect }: Capacity,
): Promise<Job | undefined> {
  return transaction(database, async (client) => {
    const waiting = await rows<{ account: number }>(
      client,
      `select a.id as account from job j join account a on a.id = j.account
       where ${TAKEABLE} and ($1 or not j.large) and ($3 or j.takes < ${SUSPECT_TAKES}) and ${OF_HOST} < $2
       order by j.id limit 1 for no key update of a skip locked`,
      [large, perHost, suspect],
    );
    const account = waiting[0]?.account;
    if (account === undefined) return undefined;
    return row<Job>(
      client,
      `update job set worker = $2, lease_until = now() + make_interval(secs => $3), begun_at = coalesce(begun_at, now()),
         takes = takes + 1
       where account = $1 and id = (
         select id from job j where j.account = $1 and j.done_at is null and j.not_before <= now()
         and (j.lease_until is null or j.lease_until < now()) and ($4 or not j.large)
         and ($5 or j.takes < ${SUSPECT_TAKES})
         order by j.begun_at nulls last, j.kind in ('search', 'read-bag', 'bring-in', 'prove', 'list-space'), j.id limit 1 for update)
       and not exists (select 1 from job b where b.account = $1 and b.done_at is null and b.lease_until >= now())
       returning account, id, kind, subject, takes, large`,
      [account, worker, leaseSeconds, large, suspect],
    );
  });
}

/** Why a job of an account that is open is not being done now. */
export type Wait =
  /** It is tried again in a while. */
  | 'later'
  /** Another job of the account is done first. */
  | 'turn'
  /** As many jobs of its host are done as may be. */
  | 'host'
  /** Other large mailboxes are done first. */
  | 'large'
  /** No worker has taken it yet. */
  | 'worker';

/** Why a job waits; null where it is being done, or is not open. */
export async function waitOf(
  db: Queryable,
  account: number,
  kind: Job['kind'],
  subject: number,
  perHost: number,
): Promise<Wait | null> {
  const open = await row<{ leased: boolean; later: boolean; turn: boolean; host: boolean; large: boolean }>(
    db,
    `select j.lease_until >= now() as leased, j.not_before > now() as later, j.large,
       exists (select 1 from job b where b.account = j.account and b.done_at is null and b.id <> j.id
               and (b.lease_until >= now() or b.begun_at is not null)) as turn,
       ${OF_HOST} >= $4 as host
     from job j join account a on a.id = j.account
     where j.account = $1 and j.kind = $2 and j.subject = $3 and j.done_at is null`,
    [account, kind, subject, perHost],
  );
  if (!open || open.leased) return null;
  for (const why of ['later', 'turn', 'host', 'large'] as const) if (open[why]) return why;
  return 'worker';
}

/** Open jobs that are due: how many are being done, how many wait, and for how long the oldest of these, in seconds. */
export async function workload(db: Queryable): Promise<{ running: number; waiting: number; longest: number }> {
  return theRow(
    db,
    `select count(*) filter (where lease_until >= now())::int as running,
       count(*) filter (where lease_until is null or lease_until < now())::int as waiting,
       coalesce(extract(epoch from now() - min(not_before) filter (where lease_until is null or lease_until < now())), 0)::int as longest
     from job where done_at is null and not_before <= now()`,
  );
}

/** Notes that a job got on, so that being taken again is no sign that it ends its worker. */
export async function noteProgress(db: Queryable, job: Job): Promise<void> {
  await db.query('update job set takes = 0 where account = $1 and id = $2 and takes > 0', [job.account, job.id]);
}

/** Notes of the jobs of a worker that it was ended from outside. */
export async function excuseWorker(db: Queryable, worker: string): Promise<void> {
  await db.query('update job set takes = 0 where worker = $1 and done_at is null', [worker]);
}

/** Moves a lease on. False where it is in other hands. */
export async function keepLease(db: Queryable, job: Job, worker: string, leaseSeconds: number): Promise<boolean> {
  const kept = await db.query(
    `update job set lease_until = now() + make_interval(secs => $4)
     where account = $1 and id = $2 and worker = $3 and done_at is null`,
    [job.account, job.id, worker, leaseSeconds],
  );
  return kept.rowCount === 1;
}

/**
 * Locks the job's row for the transaction, so that nobody else takes it up before that is over. The weakest lock does: its
 * holder may write two things at once, and move the lease on meanwhile.
 */
export async function holdLease(db: Queryable, job: Job, worker: string): Promise<void> {
  const held = await row(
    db,
    'select 1 from job where account = $1 and id = $2 and worker = $3 and done_at is null for key share',
    [job.account, job.id, worker],
  );
  if (!held) throw new LeaseLost();
}

/** Ends a job; with a run go the credentials that only it still needed. */
export async function finishJob(db: Queryable, job: Job): Promise<void> {
  await db.query('update job set done_at = now(), lease_until = null where account = $1 and id = $2', [
    job.account,
    job.id,
  ]);
  if (job.kind === 'run') await dropForgotten(db, job.account);
}

/** Work that somebody waits for. */
const AWAITED: readonly Job['kind'][] = ['scan', 'run', 'save', 'repair', 'upload'];

/** Whether work of the account that somebody waits for waits for its turn. @param also kinds that count as such. */
export async function isAwaited(db: Queryable, account: number, ...also: Job['kind'][]): Promise<boolean> {
  const waiting = await row(
    db,
    `select 1 from job where account = $1 and kind = any($2) and done_at is null and begun_at is null
     and not_before <= now() limit 1`,
    [account, [...AWAITED, ...also]],
  );
  return waiting !== undefined;
}

/**
 * Gives a job back, as if it had not been begun: others go first.
 *
 * @param large whether it turned out to be large.
 */
export async function giveWay(db: Queryable, job: Job, worker: string, large = job.large): Promise<void> {
  await db.query(
    `update job set lease_until = null, worker = null, begun_at = null, takes = 0, large = $4
     where account = $1 and id = $2 and worker = $3`,
    [job.account, job.id, worker, large],
  );
}

/** Gives a job back, to be taken up again after some seconds. */
export async function postponeJob(db: Queryable, job: Job, worker: string, seconds: number): Promise<void> {
  await db.query(
    `update job set lease_until = null, worker = null, takes = 0, not_before = now() + make_interval(secs => $4)
     where account = $1 and id = $2 and worker = $3`,
    [job.account, job.id, worker, seconds],
  );
}
