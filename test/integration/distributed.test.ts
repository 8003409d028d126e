import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { ROUTES } from '../../src/api/routes';
import { Cluster } from '../../src/cli/cluster';
import { READINGS } from '../../src/core/repeats/readings';
import { type Database, openDatabase } from '../../src/store/database';
import { migrate } from '../../src/store/migrate';
import { foreignKeys, LARGE, spreadTables } from '../../src/store/spread';
import { fileOctets } from '../../stand-in/files/body';
import { LETTER_LINES } from '../../stand-in/scenario/words';
import { addSpace, listed, plainFile, startFileSpace } from '../file-space';
import {
  App,
  cleanUp,
  freshDatabase,
  later,
  ROOT,
  startStandIn,
  temporaryFolder,
  tinyScenario,
  until,
  withoutPhotographs,
} from '../harness';

after(cleanUp);

test('every key, unique index and foreign key of what is spread holds the account, as the catalogue has it', async () => {
  const { database } = await freshDatabase();
  const keys = await foreignKeys(database);
  const spread = spreadTables(keys);
  for (const table of LARGE) assert.ok(spread.includes(table));
  const { rows: columns } = await database.query(
    `select c.relname as "table", a.attnotnull as always from pg_class c join pg_attribute a on a.attrelid = c.oid and a.attname = 'account'
     where c.relkind = 'r' and c.relnamespace = 'public'::regnamespace`,
  );
  const always = new Map(columns.map(({ table, always }) => [table, always]));
  for (const table of spread) assert.equal(always.get(table), true, `${table}.account`);
  const { rows: unique } = await database.query(
    `select i.indrelid::regclass::text as "table", i.indexrelid::regclass::text as name,
       (select array_agg(a.attname::text) from pg_attribute a where a.attrelid = i.indrelid and a.attnum = any(i.indkey)) as columns
     from pg_index i where i.indisunique and i.indrelid::regclass::text = any($1)`,
    [spread],
  );
  assert.ok(unique.length >= spread.length - 2, 'words has none');
  for (const { table, name, columns: held } of unique) assert.ok(held.includes('account'), `${table} ${name}`);
  for (const { from, to, name, columns: held, toColumns } of keys) {
    if (!spread.includes(from) || to === 'account') continue;
    assert.ok(spread.includes(to), name);
    assert.equal(toColumns[held.indexOf('account')], 'account', name);
  }
});

interface PlanNode {
  'Node Type': string;
  'Relation Name'?: string;
  Alias?: string;
  Plans?: PlanNode[];
  [more: string]: unknown;
}

const OWN = ['Index Cond', 'Recheck Cond', 'Filter'];
const JOINED = ['Hash Cond', 'Merge Cond', 'Join Filter'];

/** Scans of large tables that neither their own conditions nor those of a join above hold to an account. */
function unheld(node: PlanNode, above: readonly string[] = []): string[] {
  const table = node['Relation Name'];
  const conditions = (names: readonly string[]) => names.flatMap((name) => (node[name] ? [`${node[name]}`] : []));
  const isScan = table !== undefined && node['Node Type'] !== 'ModifyTable';
  const own = conditions(OWN).some((condition) => /\baccount\b/.test(condition));
  const joined = isScan && above.some((condition) => new RegExp(`\\b${node.Alias}\\.account\\b`).test(condition));
  const here =
    isScan && (LARGE as readonly string[]).includes(table) && !own && !joined ? [`${table} ${node.Alias}`] : [];
  const below = [...above, ...conditions(JOINED), ...conditions(OWN)];
  return [...here, ...(node.Plans ?? []).flatMap((plan) => unheld(plan, below))];
}

/** What is no query, or changes what the schema is. */
const NO_QUERY =
  /^\s*(--|begin|commit|rollback|set|show|listen|analyze|copy|create|alter|drop|do|comment|truncate|insert into migration|select pg_advisory)/i;

/** Every statement that a cluster was asked, once. */
function statements(folder: string): string[] {
  const logs = join(folder, 'postgres', 'log');
  const found = new Set<string>();
  for (const file of readdirSync(logs).filter((name) => name.endsWith('.json')))
    for (const line of readFileSync(join(logs, file), 'utf8').split('\n')) {
      if (line === '') continue;
      const { message = '', dbname } = JSON.parse(line) as { message?: string; dbname?: string };
      const [, said] = /^(?:execute [^:]*|statement): (.*)$/s.exec(message) ?? [];
      if (said && dbname === 'tamsel' && !NO_QUERY.test(said)) found.add(said);
    }
  return [...found];
}

/** The plan of a statement for whatever values. */
async function planOf(database: Database, statement: string): Promise<PlanNode> {
  const client = await database.connect();
  try {
    await client.query('begin');
    await client.query('set local plan_cache_mode = force_generic_plan');
    await client.query(`prepare asked as ${statement}`);
    const most = Math.max(0, ...[...statement.matchAll(/\$(\d+)/g)].map(([, number]) => Number(number)));
    const values = most === 0 ? '' : `(${Array(most).fill('null').join(', ')})`;
    const { rows } = await client.query(`explain (format json) execute asked${values}`);
    return rows[0]['QUERY PLAN'][0].Plan as PlanNode;
  } finally {
    await client.query('rollback');
    await client.query('deallocate all');
    client.release();
  }
}

test('every statement of a whole job reaches the large tables by the account, as EXPLAIN has it', async () => {
  const folder = temporaryFolder();
  const settings = ['fsync=off', 'logging_collector=on', 'log_destination=jsonlog', 'log_statement=all'];
  const cluster = await Cluster.start(
    folder,
    settings.flatMap((setting) => ['-c', setting]),
  );
  later(() => cluster.stop());
  const own = openDatabase(cluster.url('tamsel'), 1);
  await migrate(own, join(ROOT, 'src/store/migrations'));
  await own.end();
  const host = await startStandIn({ scenario: withoutPhotographs(tinyScenario()) });
  const app = await App.start({ env: { TAMSEL_DATABASE_URL: cluster.url('tamsel') } });
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const readAll = async () => {
    for (const { method, path } of Object.values(ROUTES))
      if (method === 'GET' && /^\/accounts\/\{account\}[^{]*$/.test(path) && !path.endsWith('/events'))
        await app.call('GET', path.replace('/accounts/{account}', account));
  };
  await readAll();
  for (const query of [
    '?where=category%20%3D%20mailings&limit=5',
    '?order=placed&scope=trash',
    '?where=text%20~%20%22bees%22',
  ])
    await app.call('GET', `${account}/messages${query}`);
  const lot = async (body: object) => (await app.call('POST', `${account}/lots`, body)).body;
  const trash = await lot({ where: 'under = Offers' });
  const archive = await lot({ where: 'folder = Bees', fate: 'archive' });
  const strip = await lot({ where: 'kind = picture and size < 300 kB', fate: 'strip' });
  await app.call('GET', `${account}/lots/${trash.id}/messages`);
  await readAll();
  await app.ran(account, { action: 'trash', lots: [trash.id] });
  await app.ran(account, { action: 'restore', lots: [trash.id] });
  await app.ran(account, { action: 'archive', lots: [archive.id] });
  const bag = (await app.call('POST', `${account}/bags`, { place: 'here', lots: [strip.id] })).body;
  await app.finished(`${account}/bags/${bag.id}`);
  await app.ran(account, { action: 'strip', lots: [strip.id] });
  await app.ran(account, { action: 'put-back', bag: 1 });
  await app.ran(account, { action: 'purge', where: '' });
  const standing = {
    label: 'Old',
    where: 'age > 1y',
    rhythm: { unit: 'day', every: 1, day: null, from: '2026-01-01', at: '03:00' },
  };
  await app.call('POST', `${account}/standing-lots`, standing);
  const space = await startFileSpace(host, [plainFile('a/b/first', 10), plainFile('a/second', 20)]);
  const files = await addSpace(app, account, space);
  space.tree.put('/files/a/third', Buffer.alloc(5), 'text/plain');
  space.tree.remove('/files/a/b/');
  await app.call('POST', `${files}/listings`);
  await listed(app, account);
  for (const noSync of [false, true]) {
    space.faults.noSync = noSync;
    space.tree.put('/files/a/third', Buffer.alloc(6 + Number(noSync)), 'text/plain');
    await app.call('POST', `${files}/listings`);
    await listed(app, account);
  }
  for (const what of ['contents', 'files']) await app.call('GET', `${files}/${what}`);
  // Some of what is attached lies there too.
  for (const [at, file] of (tinyScenario().attached ?? [])
    .filter(({ octets }) => octets > 100_000)
    .slice(0, 24)
    .entries())
    space.tree.put(`/files/kept-${at}`, fileOctets(file, LETTER_LINES), file.type);
  await app.call('POST', `${files}/listings`);
  await listed(app, account);
  for (const what of READINGS) {
    assert.equal((await app.call('POST', `${account}/repeats/compare`, { what, budget: 60_000_000 })).status, 202);
    await until(async () => {
      const { proofs } = (await app.call('GET', `${account}/repeats`)).body;
      return proofs.some((proof: { what: string; state: string }) => proof.what === what && proof.state === 'done');
    });
  }
  const doubled = await app.call('POST', `${account}/repeats/spaces/lots`, {});
  assert.equal(doubled.status, 201);
  await app.ran(account, { action: 'strip', lots: [doubled.body.id] });
  await app.scanned(account, true);
  await readAll();
  const asked = statements(folder);
  assert.ok(asked.length > 250, `${asked.length} statements`);
  const database = openDatabase(cluster.url('tamsel'), 1);
  later(() => database.end());
  const wrong: string[] = [];
  let large = 0;
  for (const statement of asked) {
    const names = LARGE.filter((table) => new RegExp(`\\b${table}\\b`).test(statement));
    if (names.length === 0) continue;
    large++;
    const found = unheld(await planOf(database, statement));
    if (found.length > 0) wrong.push(`${found.join(', ')}: ${statement}`);
    if (/^\s*insert into/i.test(statement) && !/\baccount\b/.test(statement)) wrong.push(statement);
  }
  assert.ok(large > 120, `${large} of ${asked.length} statements are of large tables`);
  assert.deepEqual(wrong, []);
});

test('./tamsel schema --distributed names each table that is spread once, and drops only keys that cross', async () => {
  const { url, database } = await freshDatabase();
  const printed = execFileSync(process.execPath, ['--import', 'tsx', 'src/cli/main.ts', 'schema', '--distributed'], {
    cwd: ROOT,
    env: { ...process.env, TAMSEL_DATABASE_URL: url },
    encoding: 'utf8',
  });
  const lines = printed.trim().split('\n');
  const keys = await foreignKeys(database);
  const spread = spreadTables(keys);
  const named = lines.flatMap((line) => /create_distributed_table\('([a-z_]+)', 'account'/.exec(line)?.[1] ?? []);
  assert.deepEqual(named, spread);
  // What is left of it is a schema still: the drops are carried out, and undone.
  const client = await database.connect();
  await client.query('begin');
  for (const line of lines.filter((each) => each.startsWith('alter table'))) await client.query(line);
  const { rows } = await client.query(
    `select conrelid::regclass::text as "from", confrelid::regclass::text as "to" from pg_constraint where contype = 'f'
     and connamespace = 'public'::regnamespace`,
  );
  await client.query('rollback');
  client.release();
  assert.ok(rows.every(({ from, to }) => spread.includes(from) === spread.includes(to)));
});
