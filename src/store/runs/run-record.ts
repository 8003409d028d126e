import pg from 'pg';
import { type Queryable, row, rows } from '../database';

/** The tables that say what a run was, and by which column each knows the run. */
const TABLES = {
  run: 'id',
  run_source: 'run',
  run_left: 'run',
  run_batch: 'run',
  run_rewrite: 'run',
  run_put_back: 'run',
  run_file: 'run',
} as const;

/** Columns that change after the end: the figure that follows later has an entry of its own. */
const LATER: ReadonlySet<string> = new Set(['run.settled']);

/** What stood in a table when a run ended: its columns, and a digest over their values. */
export interface TableRecord {
  columns: string[];
  /** SHA-256 in hexadecimal. */
  digest: string;
}

/** What the tables said of a run when it ended, all of it. */
export type RunRecord = Record<string, TableRecord>;

/** Records what the tables say of a run. */
export async function recordOfRun(db: Queryable, account: number, run: number): Promise<RunRecord> {
  const record: RunRecord = {};
  const found = await rows<{ table: string; columns: string[] }>(
    db,
    `select table_name as "table", array_agg(column_name::text order by column_name) as columns from information_schema.columns
     where table_schema = current_schema and table_name = any($1) group by table_name`,
    [Object.keys(TABLES)],
  );
  const columnsOf = new Map(found.map(({ table, columns }) => [table, columns]));
  for (const table of Object.keys(TABLES) as (keyof typeof TABLES)[]) {
    const columns = columnsOf.get(table)?.filter((name) => !LATER.has(`${table}.${name}`));
    if (!columns) throw new Error(`The catalogue tells no columns of ${table}.`);
    record[table] = { columns, digest: await digestOf(db, table, columns, account, run) };
  }
  return record;
}

/** Which tables say something else of a run than they did when it ended. */
export async function alteredTables(db: Queryable, account: number, run: number, record: RunRecord): Promise<string[]> {
  const altered: string[] = [];
  for (const table of Object.keys(TABLES) as (keyof typeof TABLES)[]) {
    const then = record[table];
    // What is recorded of a table began with some version: the signed record says which tables it covers.
    if (then === undefined) continue;
    // Columns that came since are not covered; those that went make the digest another.
    const now = await digestOf(db, table, then.columns, account, run).catch(ignoreMissingColumn);
    if (now === undefined || now !== then.digest) altered.push(table);
  }
  return altered;
}

/** A digest over the rows of a run, each of which PostgreSQL writes as text; the session's time zone is always UTC (store/database). */
async function digestOf(
  db: Queryable,
  table: keyof typeof TABLES,
  columns: readonly string[],
  account: number,
  run: number,
): Promise<string> {
  const list = columns.map((column) => pg.escapeIdentifier(column)).join(', ');
  const found = await row<{ digest: string }>(
    db,
    `select encode(sha256(coalesce(string_agg(code, ''::bytea order by code), ''::bytea)), 'hex') as digest
     from (select sha256(convert_to(row(${list})::text, 'UTF8')) as code from ${table} where account = $1 and ${TABLES[table]} = $2) r`,
    [account, run],
  );
  return found?.digest ?? '';
}

function ignoreMissingColumn(error: unknown): undefined {
  if ((error as { code?: string }).code !== '42703') throw error;
  return undefined;
}
