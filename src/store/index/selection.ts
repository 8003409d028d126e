import { criteriaToSql, type SqlContext } from '../../core/criteria/sql';
import type { Criteria } from '../../core/criteria/tree';
import { mentionsGuarded } from '../../core/guards/guards';
import { trashFolders } from '../../core/mailbox/folders';
import type { Account } from '../access/accounts';
import type { Queryable } from '../database';
import { joinFiles } from './files';
import { foldersOf, type StoredFolder } from './folders';
import { guardedNow } from './guarded';
import { textsFound } from './searches';
import { hasAllWords } from './word-index';

export type Scope = 'mail' | 'trash' | 'all';

/** What a query over the index begins with: `from` and `where` over p (placement) and m (message). */
export interface Selection {
  /** Ends with a condition, so that more can be added with `and`. */
  sql: string;
  values: unknown[];
  folders: StoredFolder[];
}

/** Ids of the folders of a scope. Views that repeat mail are in none. */
export function foldersInScope(folders: readonly StoredFolder[], scope: Scope, named: string | null): number[] {
  const trash = new Set(trashFolders(folders, named).map(({ id }) => id));
  return folders
    .filter(({ id, repeats }) => !repeats && (scope === 'all' || trash.has(id) === (scope === 'trash')))
    .map(({ id }) => id);
}

/** Ids of the folders whose messages may repeat each other: all but the trash. */
export async function mailFolders(db: Queryable, account: Account): Promise<number[]> {
  return foldersInScope(await foldersOf(db, account.id), 'mail', account.settings.trashFolder);
}

/**
 * Compiles criteria within a scope.
 *
 * @param withMessage joins m even where the criteria don't read it.
 */
export async function select(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
  withMessage: boolean,
): Promise<Selection> {
  return selection(db, account, criteria, scope, now, withMessage, false);
}

/** Compiles criteria of files within a scope: a query over f (file), p and m, a row a file and placement of its message. */
export async function selectFiles(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
): Promise<Selection> {
  return selection(db, account, criteria, scope, now, true, true);
}

/** What criteria are read against: the folders, what guards keep and what the server found, as they are now. */
export async function contextOf(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  now: Date,
  ofFiles: boolean,
): Promise<SqlContext & { folders: StoredFolder[] }> {
  const folders = await foldersOf(db, account.id);
  const trash = trashFolders(folders, account.settings.trashFolder).map(({ id }) => id);
  return {
    now,
    timeZone: account.settings.timeZone,
    folders,
    texts: await textsFound(db, account.id, criteria),
    guarded: mentionsGuarded(criteria) ? (await guardedNow(db, account, now)).members : [],
    words: (await hasAllWords(db, account.id)) ? account.id : null,
    places: { account: account.id, folders: foldersInScope(folders, 'all', null), trash },
    ofFiles,
  };
}

async function selection(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
  withMessage: boolean,
  ofFiles: boolean,
): Promise<Selection> {
  const context = await contextOf(db, account, criteria, now, ofFiles);
  const { folders } = context;
  const condition = criteriaToSql(criteria, context, 3);
  const values = [account.id, foldersInScope(folders, scope, account.settings.trashFolder), ...condition.values];
  const join =
    withMessage || condition.readsMessage ? 'join message m on m.account = p.account and m.id = p.message' : '';
  const files = ofFiles ? joinFiles('$1::bigint') : '';
  return {
    sql: `from placement p ${join} ${files} where p.account = $1::bigint and p.gone_at is null and p.folder = any($2::int[]) and ${condition.text}`,
    values,
    folders,
  };
}
