import { type Queryable, row } from '../database';

/** Notes that whoever holds a session has just shown that an account is theirs. */
export async function noteProof(db: Queryable, tokenHash: Buffer, account: number): Promise<void> {
  await db.query('update session_account set proved_at = now() where token_hash = $1 and account = $2', [
    tokenHash,
    account,
  ]);
}

/** Whether that was within so many minutes. */
export async function isProven(db: Queryable, tokenHash: Buffer, account: number, minutes: number): Promise<boolean> {
  const found = await row(
    db,
    `select 1 from session_account
     where token_hash = $1 and account = $2 and proved_at > now() - make_interval(mins => $3)`,
    [tokenHash, account, minutes],
  );
  return found !== undefined;
}
