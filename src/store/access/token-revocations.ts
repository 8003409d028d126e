import type { Tokens } from '../../core/authorization/tokens';
import { type Queryable, row } from '../database';
import { hostOfOwner } from './credentials';
import type { Vault } from './vault';

/** After so many failures tokens are left to run out. */
const MAX_TRIES = 6;
/** Before the second try, seconds; each further one waits four times as long. */
const FIRST_WAIT_SECONDS = 15;

/** Tokens that are to be taken back at the authorization server of a mail host. */
export interface Withdrawal {
  id: number;
  /** Undefined where they can't be unsealed. */
  taken: { host: string; tokens: Tokens } | undefined;
}

/** One that is due, locked until the transaction of the caller's ends; undefined where there is none. */
export async function dueWithdrawal(db: Queryable, vault: Vault): Promise<Withdrawal | undefined> {
  const due = await row<{ id: number; owner: string; sealed: Buffer }>(
    db,
    `select id, owner, sealed from withdrawal where due_at <= now() order by due_at, id limit 1
     for update skip locked`,
  );
  if (!due) return undefined;
  const text = vault.unseal(due.owner, due.sealed);
  if (text === undefined) return { id: due.id, taken: undefined };
  return {
    id: due.id,
    taken: { host: hostOfOwner(due.owner), tokens: (JSON.parse(text) as { tokens: Tokens }).tokens },
  };
}

export async function endWithdrawal(db: Queryable, id: number): Promise<void> {
  await db.query('delete from withdrawal where id = $1', [id]);
}

/** Puts it off, or gives up. */
export async function postponeWithdrawal(db: Queryable, id: number): Promise<void> {
  await db.query(
    `update withdrawal set tries = tries + 1, due_at = now() + make_interval(secs => $2 * 4 ^ tries) where id = $1`,
    [id, FIRST_WAIT_SECONDS],
  );
  await db.query('delete from withdrawal where id = $1 and tries >= $2', [id, MAX_TRIES]);
}
