import { type Queryable, row } from '../database';

/** What a session holds, and somebody shows to be theirs: an account, or an operator of a host. */
type Held = 'account' | 'operator';

/** Notes that whoever holds a session has just shown that what it holds is theirs. */
export async function noteProof(db: Queryable, tokenHash: Buffer, held: Held, id: number): Promise<void> {
  await db.query(`update session_${held} set proved_at = now() where token_hash = $1 and ${held} = $2`, [
    tokenHash,
    id,
  ]);
}

/** Whether that was within so many minutes. */
export async function isProven(
  db: Queryable,
  tokenHash: Buffer,
  held: Held,
  id: number,
  minutes: number,
): Promise<boolean> {
  const found = await row(
    db,
    `select 1 from session_${held}
     where token_hash = $1 and ${held} = $2 and proved_at > now() - make_interval(mins => $3)`,
    [tokenHash, id, minutes],
  );
  return found !== undefined;
}
