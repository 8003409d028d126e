import pg from 'pg';
import { readDatabaseUrl } from './database-url';
import { isStandby, PrimaryPool } from './primary';

/** A pool, or a client inside a transaction: whatever can be asked. */
export type Queryable = Pick<pg.Pool, 'query'>;
export type Database = pg.Pool;

// Counts, octets and ids stay below 2^53, so they are plain numbers here.
const INT8 = 20;
const NUMERIC = 1700;
pg.types.setTypeParser(INT8, Number);
pg.types.setTypeParser(NUMERIC, Number);

/** How values are written as text, which what the ledger covers depends on. The database has them as its defaults too. */
export const SESSION_SETTINGS = {
  TimeZone: 'UTC',
  DateStyle: 'ISO',
  IntervalStyle: 'postgres',
  bytea_output: 'hex',
} as const;

/** Before another server is tried, or the same again. */
const CONNECT_MS = 30_000;

/**
 * Opens a pool of connections to the primary among the servers of an address.
 *
 * @param statementSeconds after which a statement is ended, for who answers people; a job's may take as long as they need.
 */
export function openDatabase(url: string, connections = 10, statementSeconds?: number): Database {
  const { servers, isPooled: pooled } = readDatabaseUrl(url);
  const milliseconds = statementSeconds && statementSeconds * 1000;
  // What is said when a connection is made holds for whoever a pooler gives it to next, so through one nothing is said.
  const session = pooled
    ? milliseconds
      ? { query_timeout: milliseconds }
      : {}
    : {
        options: Object.entries(SESSION_SETTINGS)
          .map(([name, value]) => `-c ${name}=${value}`)
          .join(' '),
        ...(milliseconds ? { statement_timeout: milliseconds, idle_in_transaction_session_timeout: milliseconds } : {}),
      };
  const config: pg.PoolConfig = {
    max: connections,
    application_name: 'tamsel',
    ...(milliseconds || servers.length > 1 ? { connectionTimeoutMillis: CONNECT_MS } : {}),
    ...session,
  };
  const pool =
    servers.length === 1
      ? new pg.Pool({ ...config, connectionString: servers[0] as string })
      : new PrimaryPool(config, servers);
  // An idle connection that breaks is replaced; the next query reports what matters.
  pool.on('error', () => undefined);
  if (pooled) POOLED.add(pool);
  return pool;
}

const POOLED = new WeakSet<Database>();

/** Whether a pooler in transaction mode stands between: it passes no notifications on. */
export function isPooled(database: Database): boolean {
  return POOLED.has(database);
}

/** Runs an act in a transaction: all of it, or nothing. */
export async function transaction<T>(database: Database, act: (client: Queryable) => Promise<T>): Promise<T> {
  return within(database, act, 'begin', 'commit');
}

/**
 * The same for what touches sets of placements: rows are joined by their indexes, so that each statement costs what its set
 * and its rows do, whatever the planner believes of the tables.
 */
export async function transactionBySets<T>(database: Database, act: (client: Queryable) => Promise<T>): Promise<T> {
  return within(
    database,
    act,
    'begin; set local enable_seqscan = off; set local enable_hashjoin = off; set local enable_mergejoin = off',
    'commit',
  );
}

/** Reads several things as they were at one moment. */
export async function snapshot<T>(database: Database, act: (client: Queryable) => Promise<T>): Promise<T> {
  return within(database, act, 'begin isolation level repeatable read read only', 'commit');
}

/** Runs an act, takes its result, and undoes it: what would be. */
export async function rehearsal<T>(database: Database, act: (client: Queryable) => Promise<T>): Promise<T> {
  return within(database, act, 'begin', 'rollback');
}

async function within<T>(
  database: Database,
  act: (client: Queryable) => Promise<T>,
  begin: string,
  end: 'commit' | 'rollback',
): Promise<T> {
  const client = await database.connect();
  let broken: Error | undefined;
  // A connection that breaks between two queries would end the process; the next query reports it.
  const hear = (error: Error) => {
    broken = error;
  };
  client.on('error', hear);
  try {
    await client.query(begin);
    const result = await act(client);
    await client.query(end);
    return result;
  } catch (error) {
    await client.query('rollback').catch((failure: Error) => {
      broken = failure;
    });
    throw error;
  } finally {
    client.off('error', hear);
    client.release(broken);
  }
}

/**
 * Prepares a transaction for queries over all of an account. An account that was just scanned is not in the statistics, so
 * the planner takes it for a handful of rows and would join in nested loops, which never end for a hundred thousand.
 */
export async function overWholeAccount(db: Queryable): Promise<void> {
  await db.query('set local enable_nestloop = off');
  for (const other of ['seqscan', 'hashjoin', 'mergejoin']) await db.query(`set local enable_${other} = on`);
  await db.query(`set local work_mem = '64MB'`);
}

/** Columns of message that queries join, group or narrow by: looking at its texts too takes as long as writing them. */
const PLANNED_BY = [
  'account',
  'id',
  'thread',
  'email_id',
  'from_address',
  'from_address_folded',
  'from_domain',
  'list_folded',
  'sent',
  'signs',
  'kinds',
  'sole_document',
];

/** Has the planner look at the tables of the index again, after much of them changed. */
export async function refreshStatistics(db: Queryable): Promise<void> {
  await db.query(`analyze message (${PLANNED_BY.join(', ')}), placement`);
}

/**
 * Has the planner look at how much is whose, which is quick. An account that it knows nothing of is one row to it, and then
 * it joins each of its rows with each.
 */
export async function countAnew(db: Queryable): Promise<void> {
  await db.query('analyze message (account), placement (account, folder)');
}

/** The rows of a query. */
export async function rows<T>(db: Queryable, text: string, values: unknown[] = []): Promise<T[]> {
  return (await db.query(text, values)).rows as T[];
}

/** The first row of a query, undefined where there is none. */
export async function row<T>(db: Queryable, text: string, values: unknown[] = []): Promise<T | undefined> {
  return (await rows<T>(db, text, values))[0];
}

/** The first row of a query that always has one. */
export async function theRow<T>(db: Queryable, text: string, values: unknown[] = []): Promise<T> {
  return (await row<T>(db, text, values)) as T;
}

/**
 * Whether an error says that the database went away, restarts, or had two transactions in each other's way: trying again
 * later helps. By the classes of SQLSTATE (PostgreSQL, appendix A): 08 connection, 40 rollback, 53 resources, 57P shutdown.
 */
export function isDatabaseTrouble(error: unknown): boolean {
  if (!(error instanceof Error) || error.name === 'MailProblem') return false;
  if (isStandby(error)) return true;
  const { code = '' } = error as Error & { code?: string };
  if (/^(08|40|53|57P)/.test(code)) return true;
  if (/^(ECONNREFUSED|ECONNRESET|EPIPE)$/.test(code)) return true;
  // node-postgres has no code for a connection that ended under a query.
  return /^(Connection terminated|Client has encountered a connection error|timeout exceeded when trying to connect)/.test(
    error.message,
  );
}

/** Keeps a row of an account from being changed by others until the transaction is over: what is read of it then stays true. */
export async function lockRow(
  client: Queryable,
  table: 'run' | 'bag' | 'space_upload',
  account: number,
  id: number,
): Promise<void> {
  await client.query(`select from ${table} where account = $1 and id = $2 for update`, [account, id]);
}
