import { createHash, randomBytes } from 'node:crypto';
import { type Queryable, row, rows } from './database';

/** A session ends when it was idle so long, and in any case after so many days. */
const IDLE = '12 hours';
const ABSOLUTE = '30 days';

export function hashToken(token: string): Buffer {
  return createHash('sha256').update(token).digest();
}

/** Makes a session; gives its token, which is kept nowhere. */
export async function createSession(db: Queryable): Promise<string> {
  const token = randomBytes(32).toString('base64url');
  await db.query(`insert into session (token_hash, expires_at) values ($1, now() + $2::interval)`, [
    hashToken(token),
    ABSOLUTE,
  ]);
  return token;
}

/** Whether a session lives; touches it at most once a minute. */
export async function touchSession(db: Queryable, tokenHash: Buffer): Promise<boolean> {
  const found = await row<{ stale: boolean }>(
    db,
    `select seen_at < now() - interval '1 minute' as stale from session
     where token_hash = $1 and expires_at > now() and seen_at > now() - $2::interval`,
    [tokenHash, IDLE],
  );
  if (found?.stale) await db.query('update session set seen_at = now() where token_hash = $1', [tokenHash]);
  return found !== undefined;
}

export async function addAccountToSession(db: Queryable, tokenHash: Buffer, account: number): Promise<void> {
  await db.query('insert into session_account (token_hash, account) values ($1, $2) on conflict do nothing', [
    tokenHash,
    account,
  ]);
}

/** Ends a session; gives the accounts that no other session holds. */
export async function endSession(db: Queryable, tokenHash: Buffer): Promise<number[]> {
  const orphans = await rows<{ account: number }>(
    db,
    `select account from session_account mine where token_hash = $1
     and not exists (select 1 from session_account other join session s using (token_hash)
                     where other.account = mine.account and other.token_hash <> $1 and s.expires_at > now())`,
    [tokenHash],
  );
  await db.query('delete from session where token_hash = $1', [tokenHash]);
  return orphans.map(({ account }) => account);
}
