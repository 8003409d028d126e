import type { Queryable } from '../database';

/** What is appended by runs, by where it is written down: what stands in the place of messages, and what was put back. */
export type AppendTable = 'run_rewrite' | 'run_put_back';

/** The column that says which message it is: the placement that it stands for, or the number of the archived message. */
const ID: Record<AppendTable, string> = { run_rewrite: 'placement', run_put_back: 'archived' };

/** A message that a run appends. */
export interface Append {
  id: number;
  /** Octets, and their SHA-256 in hexadecimal. */
  size: number;
  sha256: string;
}

/** Writes down that messages are about to be appended to a folder, whose next UID is known. */
export async function beginAppends(
  db: Queryable,
  table: AppendTable,
  account: number,
  run: number,
  { generation, uidNext }: { generation: number; uidNext: number },
  appends: readonly Append[],
): Promise<void> {
  await db.query(
    `insert into ${table} (account, run, ${ID[table]}, state, generation, uid_next, size, sha256)
     select $1, $2, id, 'appending', $3, $4, size, decode(sha256, 'hex')
     from unnest($5::bigint[], $6::bigint[], $7::text[]) as begun (id, size, sha256)`,
    [
      account,
      run,
      generation,
      uidNext,
      appends.map(({ id }) => id),
      appends.map(({ size }) => size),
      appends.map(({ sha256 }) => sha256),
    ],
  );
}

/** Writes down under which UID a message arrived, before it was looked at. */
export async function noteArrived(
  db: Queryable,
  table: AppendTable,
  account: number,
  run: number,
  id: number,
  uid: number,
): Promise<void> {
  await db.query(`update ${table} set uid = $4 where account = $1 and run = $2 and ${ID[table]} = $3`, [
    account,
    run,
    id,
    uid,
  ]);
}

/** Writes down that messages are there, and are as they should be. */
export async function noteStanding(
  db: Queryable,
  table: AppendTable,
  account: number,
  run: number,
  generation: number,
  standing: readonly { id: number; uid: number }[],
): Promise<void> {
  await db.query(
    `update ${table} w set state = 'standing', generation = $3, uid = s.uid
     from unnest($4::bigint[], $5::bigint[]) as s (id, uid)
     where w.account = $1 and w.run = $2 and w.${ID[table]} = s.id`,
    [account, run, generation, standing.map(({ id }) => id), standing.map(({ uid }) => uid)],
  );
}

/** Forgets a message that is not there. */
export async function forgetAppend(
  db: Queryable,
  table: AppendTable,
  account: number,
  run: number,
  id: number,
): Promise<void> {
  await db.query(`delete from ${table} where account = $1 and run = $2 and ${ID[table]} = $3`, [account, run, id]);
}
