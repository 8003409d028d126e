import { type Queryable, row } from './database';

export async function saveCredential(db: Queryable, account: number, sealed: Buffer): Promise<void> {
  await db.query(
    `insert into credential (account, sealed) values ($1, $2)
     on conflict (account) do update set sealed = excluded.sealed, forget = false, stored_at = now()`,
    [account, sealed],
  );
}

export async function credentialOf(db: Queryable, account: number): Promise<Buffer | undefined> {
  return (await row<{ sealed: Buffer }>(db, 'select sealed from credential where account = $1', [account]))?.sealed;
}

/** Forgets credentials at once where nothing is going, else when it has ended. */
export async function forgetCredential(db: Queryable, account: number): Promise<void> {
  await db.query('update credential set forget = true where account = $1', [account]);
  await dropForgotten(db, account);
}

export async function dropForgotten(db: Queryable, account: number): Promise<void> {
  await db.query(
    `delete from credential c where c.account = $1 and c.forget
     and not exists (select 1 from job j where j.account = $1 and j.kind = 'run' and j.done_at is null)`,
    [account],
  );
}
