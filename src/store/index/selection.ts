import { criteriaToSql } from '../../core/criteria/sql';
import type { Criteria } from '../../core/criteria/tree';
import { mentionsGuarded } from '../../core/guards/guards';
import { trashFolders } from '../../core/mailbox/folders';
import { printMultirange, type Ranges } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import type { Queryable } from '../database';
import { fileIdsOf } from './files';
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

/** The mailbox as it was, as far as what is there now tells. */
export interface Past {
  /** Without what came in then or later. */
  instant: Date;
  /** Without these placements. */
  without: Ranges;
}

/** Ids of the folders of a scope. Views that repeat mail are in none. */
export function foldersInScope(folders: readonly StoredFolder[], scope: Scope, named: string | null): number[] {
  const trash = new Set(trashFolders(folders, named).map(({ id }) => id));
  return folders
    .filter(({ id, repeats }) => !repeats && (scope === 'all' || trash.has(id) === (scope === 'trash')))
    .map(({ id }) => id);
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
  past?: Past,
): Promise<Selection> {
  return selection(db, account, criteria, scope, now, withMessage, false, past);
}

/** Compiles criteria of files within a scope: a query over f (file), p and m, a row a file and placement of its message. */
export async function selectFiles(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
  past?: Past,
): Promise<Selection> {
  return selection(db, account, criteria, scope, now, true, true, past);
}

async function selection(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
  withMessage: boolean,
  ofFiles: boolean,
  past?: Past,
): Promise<Selection> {
  const folders = await foldersOf(db, account.id);
  const trash = trashFolders(folders, account.settings.trashFolder).map(({ id }) => id);
  const context = {
    now,
    timeZone: account.settings.timeZone,
    folders,
    texts: await textsFound(db, account.id, criteria),
    guarded: mentionsGuarded(criteria) ? (await guardedNow(db, account, now)).members : [],
    words: (await hasAllWords(db, account.id)) ? account.id : null,
    places: { account: account.id, folders: foldersInScope(folders, 'all', null), trash, before: past },
    ofFiles,
  };
  const condition = criteriaToSql(criteria, context, 3);
  const values = [account.id, foldersInScope(folders, scope, account.settings.trashFolder), ...condition.values];
  let then = '';
  if (past) {
    values.push(past.instant, printMultirange(past.without));
    then = `and p.received < $${values.length - 1}::timestamptz and not p.id <@ $${values.length}::int8multirange `;
  }
  const join =
    withMessage || condition.readsMessage ? 'join message m on m.account = p.account and m.id = p.message' : '';
  const [from, to] = fileIdsOf('p.message');
  const files = ofFiles ? `join file f on f.account = p.account and f.id >= ${from} and f.id < ${to}` : '';
  return {
    sql: `from placement p ${join} ${files} where p.account = $1::bigint and p.gone_at is null and p.folder = any($2::int[]) ${then}and ${condition.text}`,
    values,
    folders,
  };
}
