import { dropForgotten } from './credentials';
import { type Database, type Queryable, row, rows, transaction } from './database';
import { wake } from './events';

export interface Job {
  account: number;
  id: number;
  kind: 'scan' | 'run' | 'search' | 'look';
  /** Number of the scan, run, search or look. */
  subject: number;
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

/**
 * Takes the next job under a lease: of each account one at a time, one that was begun before any other.
 *
 * The row of the account is locked while its jobs are looked at, so that two workers never take two jobs of it, but not
 * against rows that refer to it, which who holds a job writes all the time; the second statement sees what was committed
 * before that lock was got. The job's own row is waited for while whoever held it is writing under `holdLease`, and passed by
 * if it was kept meanwhile.
 */
export async function takeJob(database: Database, worker: string, leaseSeconds: number): Promise<Job | undefined> {
  return transaction(database, async (client) => {
    const waiting = await rows<{ account: number }>(
      client,
      `select a.id as account from account a
       where exists (
         select 1 from job j where j.account = a.id and j.done_at is null and j.not_before <= now()
         and (j.lease_until is null or j.lease_until < now()))
       and not exists (select 1 from job b where b.account = a.id and b.done_at is null
                       and (b.lease_until >= now() or (b.begun_at is not null and b.not_before > now())))
       order by a.id limit 1 for no key update skip locked`,
    );
    const account = waiting[0]?.account;
    if (account === undefined) return undefined;
    return row<Job>(
      client,
      `update job set worker = $2, lease_until = now() + make_interval(secs => $3), begun_at = coalesce(begun_at, now())
       where account = $1 and id = (
         select id from job j where j.account = $1 and j.done_at is null and j.not_before <= now()
         and (j.lease_until is null or j.lease_until < now())
         order by j.begun_at nulls last, j.kind = 'search', j.id limit 1 for update)
       and not exists (select 1 from job b where b.account = $1 and b.done_at is null and b.lease_until >= now())
       returning account, id, kind, subject`,
      [account, worker, leaseSeconds],
    );
  });
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

/** Whether a scan or run of the account waits for its turn. */
export async function isAwaited(db: Queryable, account: number): Promise<boolean> {
  const waiting = await row(
    db,
    `select 1 from job where account = $1 and kind in ('scan', 'run') and done_at is null and begun_at is null
     and not_before <= now() limit 1`,
    [account],
  );
  return waiting !== undefined;
}

/** Gives a job back, as if it had not been begun: others go first. */
export async function giveWay(db: Queryable, job: Job, worker: string): Promise<void> {
  await db.query(
    'update job set lease_until = null, worker = null, begun_at = null where account = $1 and id = $2 and worker = $3',
    [job.account, job.id, worker],
  );
}

/** Gives a job back, to be taken up again after some seconds. */
export async function postponeJob(db: Queryable, job: Job, worker: string, seconds: number): Promise<void> {
  await db.query(
    `update job set lease_until = null, worker = null, not_before = now() + make_interval(secs => $4)
     where account = $1 and id = $2 and worker = $3`,
    [job.account, job.id, worker, seconds],
  );
}
