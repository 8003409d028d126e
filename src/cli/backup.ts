import { spawnSync } from 'node:child_process';
import { chmodSync, copyFileSync, existsSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { openDatabase, rows } from '../store/database';
import { headOf, type LedgerHead } from '../store/runs/ledger-chain';
import { Cluster } from './cluster';
import { DataFolder, type Purpose } from './data-folder';
import { ensurePackages, POSTGRESQL, postgresBinaries } from './debian';
import { EXIT, Stop } from './exits';
import { existingKeys, keyFileOf, ownKeyFileOf } from './key';
import { say } from './say';
import { verify } from './verify';

/** What a backup says of itself. */
interface Manifest {
  version: string;
  at: string;
  /** The newest entry of each account's ledger: what was restored is held against it. */
  heads: { user: string; host: string; head: LedgerHead }[];
}

const [DUMP, KEY, MANIFEST] = ['database.dump', 'key', 'backup.json'];

/** Writes the database, as it is at one moment, and the key into a folder; while an instance runs or not. @returns the exit code. */
export async function backup(data: string, purpose: Purpose, into: string, version: string): Promise<number> {
  if (existsSync(into) && readdirSync(into).length > 0)
    throw new Stop(EXIT.usage, `${into} is not empty. A backup is written into a folder of its own.`);
  const key = keyFileOf(data, purpose);
  // Without it credentials open no more, and no ledger can be checked.
  existingKeys(key);
  const given = process.env.TAMSEL_DATABASE_URL || Cluster.running(data);
  const own = given ? undefined : await Cluster.start(data);
  try {
    const url = given ?? (own as Cluster).url('tamsel');
    mkdirSync(into, { recursive: true, mode: 0o700 });
    const manifest: Manifest = { version, at: new Date().toISOString(), heads: await headsOf(url) };
    postgres('pg_dump', ['--format=custom', `--file=${join(into, DUMP)}`, `--dbname=${url}`]);
    copyFileSync(key, join(into, KEY));
    chmodSync(join(into, DUMP), 0o600);
    chmodSync(join(into, KEY), 0o600);
    writeFileSync(join(into, MANIFEST), `${JSON.stringify(manifest, null, 2)}\n`, { mode: 0o600 });
    say(`Written to ${into}: the database, and the key from ${key}.`);
    say(
      'Saved files are not in it. Copy the archive too: TAMSEL_ARCHIVE_DIR, or the folder archive in the data folder.',
    );
    say('Whoever has this folder can sign in to the mailboxes. Keep it as safe as their passwords.');
    return 0;
  } finally {
    await own?.stop();
  }
}

/** Makes a data folder that holds nothing of a backup, and checks its ledgers. @returns the exit code. */
export async function restore(data: string, from: string, purpose: Purpose): Promise<number> {
  for (const variable of ['TAMSEL_DATABASE_URL', 'TAMSEL_KEY_FILE'])
    if (process.env[variable])
      throw new Stop(EXIT.usage, `A backup is restored into a data folder, with its key. Unset ${variable}.`);
  const manifest = readManifest(from);
  const folder = DataFolder.looked(data, purpose);
  if (folder.holdsData || existsSync(keyFileOf(data, purpose)))
    throw new Stop(EXIT.usage, `${data} holds data already. Set TAMSEL_DATA to a folder that does not.`);
  ensurePackages([POSTGRESQL]);
  const giveBack = folder.take(purpose, 'restoring');
  try {
    const cluster = await Cluster.start(data);
    try {
      const options = ['--exit-on-error', '--no-owner', '--no-privileges', '--no-comments'];
      postgres('pg_restore', [...options, `--dbname=${cluster.url('tamsel')}`, join(from, DUMP)]);
      const key = ownKeyFileOf(data, purpose);
      copyFileSync(join(from, KEY), key);
      chmodSync(key, 0o600);
      say(`The key is in ${key}.`);
      await compareHeads(cluster.url('tamsel'), manifest);
    } finally {
      await cluster.stop();
    }
    say(`Restored from the backup of ${manifest.at}.`);
    return await verify(data, purpose, { user: undefined, head: undefined });
  } finally {
    giveBack();
  }
}

async function headsOf(url: string): Promise<Manifest['heads']> {
  const database = openDatabase(url, 1);
  try {
    const accounts = await rows<{ id: number; user: string; host: string }>(
      database,
      'select id, user_name as "user", host from account order by id',
    );
    const heads: Manifest['heads'] = [];
    for (const { id, user, host } of accounts) heads.push({ user, host, head: await headOf(database, id) });
    return heads;
  } finally {
    await database.end();
  }
}

/** The dump is taken after the heads: its ledgers may have gone on by an entry or more, and never hold less. */
async function compareHeads(url: string, { heads }: Manifest): Promise<void> {
  const now = await headsOf(url);
  for (const [index, { user, head }] of heads.entries())
    if ((now[index]?.head.entries ?? 0) < head.entries)
      throw new Stop(EXIT.failed, `The ledger of ${user} is shorter than when the backup was made.`);
}

function readManifest(from: string): Manifest {
  for (const part of [DUMP, KEY, MANIFEST] as string[])
    if (!existsSync(join(from, part))) throw new Stop(EXIT.usage, `${from} is no backup: ${part} is missing.`);
  return JSON.parse(readFileSync(join(from, MANIFEST as string), 'utf8')) as Manifest;
}

/** Runs a program of PostgreSQL's; passwords go by the environment, where other users of the machine don't see them. */
function postgres(program: 'pg_dump' | 'pg_restore', args: readonly string[]): void {
  const folder = postgresBinaries();
  if (!folder) throw new Stop(EXIT.packagesMissing, 'No PostgreSQL is installed. Run: sudo apt-get install postgresql');
  const env = { ...process.env };
  const shown = args.map((argument) => {
    if (!argument.startsWith('--dbname=')) return argument;
    const url = new URL(argument.slice('--dbname='.length));
    env.PGPASSWORD = decodeURIComponent(url.password);
    url.password = '';
    return `--dbname=${url.href}`;
  });
  const { status, stderr, error } = spawnSync(join(folder, program), shown, { env, encoding: 'utf8' });
  if (status !== 0)
    throw new Stop(EXIT.failed, `${program} failed: ${(error?.message ?? stderr ?? '').trim().split('\n').at(-1)}`);
}
