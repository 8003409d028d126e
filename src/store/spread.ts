import { type Database, rows } from './database';

/** Tables that grow with the messages of a mailbox: nearly all of what is stored. */
export const LARGE = [
  ...['message', 'placement', 'words', 'file', 'file_digest', 'picture_look', 'twin_digest', 'thread_read', 'echo'],
  ...['archived', 'archived_words', 'bag_file', 'bag_part', 'brought_message', 'search_found', 'full_warning'],
  ...['run_batch', 'run_left', 'run_source', 'run_put_back', 'run_rewrite', 'lot', 'lot_guarded', 'ledger_entry'],
  ...['space_folder', 'space_file', 'run_file'],
] as const;

/** A foreign key, as the catalogue has it. */
export interface ForeignKey {
  name: string;
  from: string;
  to: string;
  /** Its columns in both tables, in the same order. */
  columns: string[];
  toColumns: string[];
}

/** The foreign keys of the schema. */
export async function foreignKeys(db: Database): Promise<ForeignKey[]> {
  const named = (
    of: string,
    columns: string,
  ) => `(select array_agg(a.attname::text order by k.place) from unnest(${columns}) with ordinality as k (attnum, place)
    join pg_attribute a on a.attrelid = ${of} and a.attnum = k.attnum)`;
  return rows<ForeignKey>(
    db,
    `select c.conname as name, c.conrelid::regclass::text as "from", c.confrelid::regclass::text as "to",
       ${named('c.conrelid', 'c.conkey')} as columns, ${named('c.confrelid', 'c.confkey')} as "toColumns"
     from pg_constraint c where c.contype = 'f' and c.connamespace = current_schema()::regnamespace order by 2, 1`,
  );
}

/**
 * The tables that can be spread over several machines by account: the large ones, and those that their foreign keys need beside them.
 * All others are small, and stay together.
 */
export function spreadTables(keys: readonly ForeignKey[]): string[] {
  const spread = new Set<string>(LARGE);
  for (const table of spread)
    for (const { from, to } of keys) if (from === table && to !== 'account' && to !== table) spread.add(to);
  return [...spread].sort();
}

/**
 * The statements by which the extension Citus of PostgreSQL spreads these tables by account, each account on one machine. Foreign keys
 * between what is spread and what stays together can't be kept by it: Tamsel deletes by itself what an account has.
 *
 * Their form is from memory of that extension's manual; they were never run.
 */
export async function distribution(db: Database): Promise<string[]> {
  const keys = await foreignKeys(db);
  const spread = spreadTables(keys);
  const isSpread = new Set(spread);
  const crossing = keys.filter(({ from, to }) => isSpread.has(from) !== isSpread.has(to));
  const [first, ...rest] = spread;
  return [
    ...crossing.map(({ name, from }) => `alter table ${from} drop constraint ${name};`),
    `select create_distributed_table('${first}', 'account');`,
    ...rest.map((table) => `select create_distributed_table('${table}', 'account', colocate_with => '${first}');`),
  ];
}
