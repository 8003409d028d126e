import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { type Database, type Queryable, row, rows, SESSION_SETTINGS, theRow, transaction } from './database';

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
    await setDefaults(client);
    return missing;
  });
}

/**
 * Gives the database the settings that what is written as text depends on as its defaults: through a pooler no session can have its own.
 * They are no part of a migration, since a dump of the database does not hold them.
 */
async function setDefaults(client: Queryable): Promise<void> {
  const { isOurs } = await theRow<{ isOurs: boolean }>(
    client,
    `select pg_has_role(datdba, 'usage') as "isOurs" from pg_database where datname = current_database()`,
  );
  // Whoever owns it sets them for a pooler; without one each session has its own.
  if (!isOurs) return;
  const kept = await row<{ settings: string[] }>(
    client,
    `select setconfig as settings from pg_db_role_setting
     where setrole = 0 and setdatabase = (select oid from pg_database where datname = current_database())`,
  );
  const wanted = Object.entries(SESSION_SETTINGS).map(([name, value]) => `${name}=${value}`);
  if (wanted.every((setting) => kept?.settings.includes(setting))) return;
  const { name } = await theRow<{ name: string }>(client, 'select quote_ident(current_database()) as name');
  for (const [setting, value] of Object.entries(SESSION_SETTINGS))
    await client.query(`alter database ${name} set ${setting} = '${value}'`);
}

/**
 * Finds out whether sessions have the settings that what is written as text depends on.
 *
 * @returns the name of one that is not as it should be.
 */
export async function wrongSetting(database: Database): Promise<string | undefined> {
  for (const [name, value] of Object.entries(SESSION_SETTINGS)) {
    const { now } = await theRow<{ now: string }>(database, 'select current_setting($1) as now', [name]);
    // Of a style the order of days and months stands behind it.
    if (now.split(',')[0] !== value) return name;
  }
  return undefined;
}
