import { type Queryable, row, rows } from './database';

/** Criteria that the user named and kept. */
export interface KeptCriteria {
  id: number;
  name: string;
  where: string;
}

export async function keptCriteria(db: Queryable, account: number): Promise<KeptCriteria[]> {
  return rows(db, 'select id, name, criteria as "where" from kept_criteria where account = $1 order by kept_at, id', [
    account,
  ]);
}

/** Keeps criteria under a name; the same name again is changed. */
export async function keepCriteria(
  db: Queryable,
  account: number,
  { name, where }: Omit<KeptCriteria, 'id'>,
): Promise<KeptCriteria> {
  await db.query('select 1 from account where id = $1 for no key update', [account]);
  return (await row<KeptCriteria>(
    db,
    `insert into kept_criteria (account, id, name, criteria)
     select $1, (select coalesce(max(id), 0) + 1 from kept_criteria where account = $1), $2, $3
     on conflict (account, name) do update set criteria = excluded.criteria
     returning id, name, criteria as "where"`,
    [account, name, where],
  )) as KeptCriteria;
}

export async function forgetCriteria(db: Queryable, account: number, id: number): Promise<boolean> {
  const gone = await db.query('delete from kept_criteria where account = $1 and id = $2', [account, id]);
  return gone.rowCount === 1;
}
