import { createHash, randomBytes } from 'node:crypto';
import { type Queryable, row, rows } from '../database';
import { tellEnded } from '../events';
import { isNeededByRound } from '../host/rounds';

/** How long a session lives. */
export interface SessionLife {
  /** In any case. */
  hours: number;
  /** Without a request. */
  idleMinutes: number;
}

/** A session as it is shown. */
export interface SessionBrief {
  id: number;
  /** What the browser calls itself. */
  agent: string;
  since: Date;
  seenAt: Date;
  /** Whether it is the one that asks. */
  isOwn: boolean;
}

/** Whether a session `s` lives. */
export const LIVES = 's.expires_at > now() and s.seen_at > now() - make_interval(secs => s.idle_seconds)';
/** Of a session `s`: it is signed in to no account, and holds no operator of a host. */
const HOLDS_NOTHING = `not exists (select 1 from session_account sa where sa.token_hash = s.token_hash)
  and not exists (select 1 from session_operator so where so.token_hash = s.token_hash)`;
const MAX_AGENT_LENGTH = 300;

export function hashToken(token: string): Buffer {
  return createHash('sha256').update(token).digest();
}

/** Makes a session; gives its token, which is kept nowhere. */
export async function createSession(db: Queryable, life: SessionLife, agent: string): Promise<string> {
  const token = randomBytes(32).toString('base64url');
  await db.query(
    `insert into session (token_hash, expires_at, idle_seconds, agent)
     values ($1, now() + make_interval(hours => $2), $3, $4)`,
    [hashToken(token), life.hours, life.idleMinutes * 60, agent.slice(0, MAX_AGENT_LENGTH)],
  );
  return token;
}

/** Whether a session lives and holds an account; does not touch it, so that a page that is only open does not prolong it. */
export async function sessionHolds(db: Queryable, tokenHash: Buffer, account: number): Promise<boolean> {
  const found = await row(
    db,
    `select 1 from session s join session_account sa using (token_hash)
     where s.token_hash = $1 and sa.account = $2 and ${LIVES}`,
    [tokenHash, account],
  );
  return found !== undefined;
}

/** Whether a session lives; touches it at most once a minute. */
export async function touchSession(db: Queryable, tokenHash: Buffer): Promise<boolean> {
  const found = await row<{ stale: boolean }>(
    db,
    `select seen_at < now() - interval '1 minute' as stale from session s where token_hash = $1 and ${LIVES}`,
    [tokenHash],
  );
  if (found?.stale) await db.query('update session set seen_at = now() where token_hash = $1', [tokenHash]);
  return found !== undefined;
}

/** Gives a session another token, and its whole life anew; the one before is good no more. */
export async function renewSession(
  db: Queryable,
  tokenHash: Buffer,
  life: SessionLife,
  agent: string,
): Promise<string> {
  const token = await createSession(db, life, agent);
  await db.query(
    'insert into session_account (token_hash, account, proved_at) select $2, account, proved_at from session_account where token_hash = $1',
    [tokenHash, hashToken(token)],
  );
  await db.query(
    'insert into session_operator (token_hash, operator, proved_at) select $2, operator, proved_at from session_operator where token_hash = $1',
    [tokenHash, hashToken(token)],
  );
  await db.query('delete from session where token_hash = $1', [tokenHash]);
  await tellEnded(db);
  return token;
}

/** Adds an account to a session; of more than so many of an account the one that was used least lately leaves it. */
export async function addAccountToSession(
  db: Queryable,
  tokenHash: Buffer,
  account: number,
  most: number,
): Promise<void> {
  await db.query(
    `insert into session_account (token_hash, account) values ($1, $2)
     on conflict (token_hash, account) do update set proved_at = now()`,
    [tokenHash, account],
  );
  await db.query(
    `delete from session_account where account = $1 and token_hash in (
       select token_hash from session_account sa join session s using (token_hash) where sa.account = $1
       order by s.token_hash = $2 desc, s.seen_at desc offset $3)`,
    [account, tokenHash, most],
  );
}

/** Takes an account out of every session, and withdraws its tokens. */
export async function signOutAll(db: Queryable, account: number): Promise<void> {
  await db.query('delete from session_account where account = $1', [account]);
  await db.query(`delete from session s where ${HOLDS_NOTHING}`);
  await db.query('update api_token set ends_at = now() where account = $1 and ends_at > now()', [account]);
  await tellEnded(db);
}

/** Ends a session; gives the accounts that nobody holds any more. */
export async function endSession(db: Queryable, tokenHash: Buffer): Promise<number[]> {
  const held = await rows<{ account: number }>(db, 'select account from session_account where token_hash = $1', [
    tokenHash,
  ]);
  await db.query('delete from session where token_hash = $1', [tokenHash]);
  await tellEnded(db);
  return unheld(
    db,
    held.map(({ account }) => account),
  );
}

/** Ends a session that is signed in to nothing any more. */
export async function endEmptySession(db: Queryable, tokenHash: Buffer): Promise<void> {
  await db.query(`delete from session s where s.token_hash = $1 and ${HOLDS_NOTHING}`, [tokenHash]);
}

/** The living sessions that hold an account, the one that was used last first. */
export async function sessionsOf(db: Queryable, account: number, own: Buffer): Promise<SessionBrief[]> {
  return rows<SessionBrief>(
    db,
    `select s.id, s.agent, s.created_at as since, s.seen_at as "seenAt", s.token_hash = $2 as "isOwn"
     from session s join session_account sa using (token_hash) where sa.account = $1 and ${LIVES}
     order by s.seen_at desc, s.id`,
    [account, own],
  );
}

/** Takes an account out of another's session, which ends where it has no other; false where there is none such. */
export async function endOtherSession(db: Queryable, account: number, id: number): Promise<boolean> {
  const gone = await db.query(
    `delete from session_account sa using session s
     where s.token_hash = sa.token_hash and sa.account = $1 and s.id = $2`,
    [account, id],
  );
  await db.query(`delete from session s where s.id = $1 and ${HOLDS_NOTHING}`, [id]);
  await tellEnded(db);
  return gone.rowCount === 1;
}

/** Takes an account out of a session; gives it where nobody holds it any more. */
export async function leaveAccount(db: Queryable, tokenHash: Buffer, account: number): Promise<number[]> {
  await db.query('delete from session_account where token_hash = $1 and account = $2', [tokenHash, account]);
  await tellEnded(db);
  return unheld(db, [account]);
}

/** Those of some accounts that no living session holds, and no token for scripts; locked, so that nobody signs in meanwhile. */
async function unheld(db: Queryable, accounts: readonly number[]): Promise<number[]> {
  await db.query('select 1 from account where id = any($1::bigint[]) order by id for no key update', [accounts]);
  const found = await rows<{ account: number }>(
    db,
    `select account from unnest($1::bigint[]) as account where ${isUnheld('account.account')}`,
    [accounts],
  );
  return found.map(({ account }) => account);
}

/** Deletes sessions that time has ended, in a transaction of the caller's; gives whose credentials nobody needs. */
export async function endOverdue(db: Queryable): Promise<number[]> {
  await db.query(`delete from session s where not (${LIVES})`);
  const left = await rows<{ account: number }>(
    db,
    `select account from credential c where not forget and ${isUnheld('c.account')}`,
  );
  return left.length === 0
    ? []
    : unheld(
        db,
        left.map(({ account }) => account),
      );
}

function isUnheld(account: string): string {
  return `not exists (select 1 from session_account sa join session s using (token_hash)
                      where sa.account = ${account} and ${LIVES})
    and not exists (select 1 from api_token t where t.account = ${account} and t.ends_at > now())
    and not ${isNeededByRound(account)}`;
}
