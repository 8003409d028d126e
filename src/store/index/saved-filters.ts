import { type Queryable, row, rows } from '../database';

/** Criteria that the user named and kept. */
export interface SavedFilter {
  id: number;
  name: string;
  where: string;
}

export async function savedFilters(db: Queryable, account: number): Promise<SavedFilter[]> {
  return rows(db, 'select id, name, criteria as "where" from saved_filter where account = $1 order by saved_at, id', [
    account,
  ]);
}

/** Keeps criteria under a name; the same name again is changed. */
export async function saveFilter(
  db: Queryable,
  account: number,
  { name, where }: Omit<SavedFilter, 'id'>,
): Promise<SavedFilter> {
  await db.query('select 1 from account where id = $1 for no key update', [account]);
  return (await row<SavedFilter>(
    db,
    `insert into saved_filter (account, id, name, criteria)
     select $1, (select coalesce(max(id), 0) + 1 from saved_filter where account = $1), $2, $3
     on conflict (account, name) do update set criteria = excluded.criteria
     returning id, name, criteria as "where"`,
    [account, name, where],
  )) as SavedFilter;
}

export async function deleteFilter(db: Queryable, account: number, id: number): Promise<boolean> {
  const gone = await db.query('delete from saved_filter where account = $1 and id = $2', [account, id]);
  return gone.rowCount === 1;
}
