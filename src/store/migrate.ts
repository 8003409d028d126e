import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { type Database, rows, transaction } from './database';

/** The database knows migrations that this version does not. */
export class NewerSchema extends Error {}

/** Any number, the same for all that migrate. */
const MIGRATION_LOCK = 7_466_735;

/**
 * Applies the migrations that are missing, in order, in a transaction; several callers wait for each other.
 *
 * @throws NewerSchema where the database is of a newer version.
 */
export async function migrate(database: Database, directory: string): Promise<string[]> {
  const files = readdirSync(directory)
    .filter((name) => /^\d{4}_.*\.sql$/.test(name))
    .sort();
  return transaction(database, async (client) => {
    await client.query('select pg_advisory_xact_lock($1)', [MIGRATION_LOCK]);
    await client.query(
      'create table if not exists migration (name text primary key, applied_at timestamptz not null default now())',
    );
    const applied = new Set(
      (await rows<{ name: string }>(client, 'select name from migration')).map(({ name }) => name),
    );
    const newer = [...applied].filter((name) => !files.includes(name));
    if (newer.length > 0)
      throw new NewerSchema(
        `The database was made by a newer version of Tamsel (${newer.join(', ')}). Nothing was changed.`,
      );
    const missing = files.filter((name) => !applied.has(name));
    for (const name of missing) {
      await client.query(readFileSync(join(directory, name), 'utf8'));
      await client.query('insert into migration (name) values ($1)', [name]);
    }
    return missing;
  });
}
