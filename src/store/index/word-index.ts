import { type Queryable, row, theRow } from '../database';

/** Messages whose words are indexed in one transaction. */
const BATCH = 5_000;

/**
 * Indexes the words of the next messages of an account, in a transaction of the caller's.
 *
 * @returns whether there may be more.
 */
export async function indexWords(db: Queryable, account: number): Promise<boolean> {
  const { last } = await theRow<{ last: number | null }>(
    db,
    `select max(id) as last from (
       select m.id from account a join message m on m.account = a.id and m.id > a.words_to
       where a.id = $1 order by m.id limit ${BATCH}) next`,
    [account],
  );
  if (last === null) return false;
  await db.query(
    `insert into words (account, message, folded)
     select m.account, m.id, m.subject_folded || E'\\n' || m.to_folded || E'\\n' || m.files_folded
     from account a join message m on m.account = a.id and m.id > a.words_to and m.id <= $2 where a.id = $1`,
    [account, last],
  );
  await db.query('update account set words_to = $2 where id = $1', [account, last]);
  return true;
}

/** Sorts what was added into the index, so that a search need not look through it one by one. */
export async function sortWords(db: Queryable): Promise<void> {
  await db.query(`select gin_clean_pending_list('words_by_trigram')`);
}

/** Whether the words of all messages of an account are indexed. */
export async function hasAllWords(db: Queryable, account: number): Promise<boolean> {
  const missing = await row(
    db,
    'select 1 from account a join message m on m.account = a.id and m.id > a.words_to where a.id = $1 limit 1',
    [account],
  );
  return missing === undefined;
}
