import { type Queryable, rows } from '../database';

/** The keys of suggestions that the user does not want to see again. */
export async function dismissalsOf(db: Queryable, account: number): Promise<string[]> {
  const found = await rows<{ key: string }>(
    db,
    'select key from dismissed_suggestion where account = $1 order by dismissed_at, key',
    [account],
  );
  return found.map(({ key }) => key);
}

export async function dismissSuggestion(db: Queryable, account: number, key: string): Promise<void> {
  await db.query('insert into dismissed_suggestion (account, key) values ($1, $2) on conflict do nothing', [
    account,
    key,
  ]);
}

/** Lets suggestions be made again: one, or all. */
export async function restoreSuggestions(db: Queryable, account: number, key: string | undefined): Promise<void> {
  await db.query('delete from dismissed_suggestion where account = $1 and ($2::text is null or key = $2)', [
    account,
    key ?? null,
  ]);
}
