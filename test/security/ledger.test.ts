import assert from 'node:assert/strict';
import { unlinkSync } from 'node:fs';
import { after, before, test } from 'node:test';
import { Vault } from '../../src/store/access/vault';
import { type Queryable, rows, transaction } from '../../src/store/database';
import { verifyLedger } from '../../src/store/runs/ledger-verification';
import { App, cleanUp, startStandIn, tinyScenario } from '../harness';

after(cleanUp);

let app: App;
let account: string;
let vault: Vault;
const id = () => Number(account.split('/').at(-1));

before(async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  app = await App.start();
  account = await app.signIn({ port: host.plainPort });
  assert.equal((await app.scanned(account)).state, 'done');
  // What is left, what is put back, what is purged and what is cancelled.
  const lot = (await app.call('POST', `${account}/lots`, { where: 'folder = Offers' })).body;
  await app.ran(account, { action: 'trash', lots: [lot.id] });
  await app.ran(account, { action: 'trash', where: 'folder = INBOX' });
  await app.ran(account, { action: 'restore', run: 2 });
  await app.ran(account, { action: 'purge', run: 1 });
  vault = Vault.existing(app.keyFile);
});

async function ids(where: string): Promise<number[]> {
  const { body } = await app.call('GET', `${account}/messages?where=${encodeURIComponent(where)}`);
  return body.messages.map((message: { id: number }) => message.id);
}

/** What a check finds after a change, which is undone. */
async function foundAfter(...changes: string[]): Promise<string[]> {
  const undone = new Error('undone');
  let faults: string[] = [];
  await transaction(app.database, async (client) => {
    await client.query('set local session_replication_role = replica');
    for (const change of changes) await client.query(change, change.includes('$1') ? [id()] : []);
    faults = (await verifyLedger(client, vault, id())).faults;
    throw undone;
  }).catch((error) => {
    if (error !== undone) throw error;
  });
  return faults;
}

/** A change of a value, by its type. */
function changed(column: string, type: string): string {
  const name = `"${column}"`;
  if (/^timestamp/.test(type)) return `coalesce(${name}, now()) + interval '1 second'`;
  switch (type) {
    case 'boolean':
      return `not coalesce(${name}, false)`;
    case 'text':
      return `coalesce(${name}, '') || 'x'`;
    case 'jsonb':
      return `jsonb_build_object('was', ${name})`;
    case 'bytea':
      return `coalesce(${name}, ''::bytea) || '\\x00'::bytea`;
    case 'ARRAY':
      return `coalesce(${name}, '{}') || 1::bigint`;
    case 'int8multirange':
      return `coalesce(${name}, '{}') + '{[900000000,900000001)}'::int8multirange`;
    default:
      return `coalesce(${name}, 0) + 1000`;
  }
}

async function columnsOf(db: Queryable, table: string): Promise<{ name: string; type: string }[]> {
  return rows(
    db,
    `select column_name as name, case when data_type = 'USER-DEFINED' or data_type like '%range' then udt_name else data_type end as type
     from information_schema.columns where table_name = $1 order by 1`,
    [table],
  );
}

test('every column of what the ledger is made of, altered by itself, is found', async () => {
  assert.deepEqual(await foundAfter(), []);
  let tried = 0;
  for (const table of ['run', 'run_source', 'run_left', 'run_batch', 'ledger_entry']) {
    const checks = await rows<{ name: string }>(
      app.database,
      `select conname as name from pg_constraint where contype = 'c' and conrelid = $1::regclass`,
      [table],
    );
    for (const { name } of checks) await app.database.query(`alter table ${table} drop constraint "${name}"`);
    const one = `ctid = (select ctid from ${table} where account = $1 order by ctid limit 1)`;
    for (const { name, type } of await columnsOf(app.database, table)) {
      const faults = await foundAfter(`update ${table} set "${name}" = ${changed(name, type)} where ${one}`);
      assert.ok(faults.length > 0, `${table}.${name} (${type}) was altered, and nobody noticed`);
      tried++;
    }
    const gone = await foundAfter(`delete from ${table} where ${one}`);
    assert.ok(gone.length > 0, `a row of ${table} was deleted, and nobody noticed`);
  }
  assert.ok(tried > 60, `${tried} columns`);
});

test('what is shown of a run is what its entries say, and a line that does not agree says so', async () => {
  const shown = async () => (await app.call('GET', `${account}/runs`)).body.runs as Record<string, unknown>[];
  const before = await shown();
  assert.ok(before.length >= 4 && before.every(({ agreement }) => agreement === 'agrees'));
  const during = async (change: string, undo: string) => {
    await app.database.query(change, [id()]);
    const now = await shown();
    const [first] = now.filter(({ id: run }) => run === 1);
    assert.deepEqual((await app.call('GET', `${account}/runs/1`)).body, first);
    await app.database.query(undo, [id()]);
    assert.deepEqual(await shown(), before);
    return { now, first };
  };
  for (const [column, value] of [
    ['label', `'Nothing of value'`],
    ['action', `'restore'`],
    ['done_messages', '1'],
    ['started_at', `started_at - interval '1 year'`],
    ['asked_by', `'{"user":"somebody@else.example"}'`],
    ['before_level', `'{"used":1,"counted":1,"at":"2020-01-01"}'`],
  ]) {
    await app.database.query(`create table kept as select * from run`);
    const { first } = await during(
      `update run set ${column} = ${value} where account = $1 and id = 1`,
      `update run set ${column} = kept.${column} from kept where kept.account = $1 and run.account = kept.account and kept.id = 1 and run.id = 1`,
    );
    await app.database.query('drop table kept');
    assert.equal(first?.agreement, 'differs', column);
    assert.deepEqual(
      { ...first, agreement: 'agrees' },
      before.find(({ id: run }) => run === 1),
      column,
    );
  }
  const altered = await during(
    `update ledger_entry set body = replace(body, '"state":"done"', '"state":"cancelled"') where account = $1 and run = 1`,
    `update ledger_entry set body = replace(body, '"state":"cancelled"', '"state":"done"') where account = $1 and run = 1`,
  );
  assert.equal(altered.first?.agreement, 'broken');
  const invented = await during(
    `insert into run (account, id, action, state, label, selector, asked_messages, asked_bytes, members)
     values ($1, 99, 'purge', 'done', 'Invented', '{}', 5, 5, '{}')`,
    'delete from run where account = $1 and id = 99',
  );
  assert.equal(invented.now.find(({ id: run }) => run === 99)?.agreement, 'broken');
});

test('an invented run, an entry without a run, a gap, and an end that was cut off are each told by name', async () => {
  const { rows: named } = await app.database.query(
    'select column_name from information_schema.columns where table_name = $1',
    ['run'],
  );
  const others = named
    .map(({ column_name: name }) => `"${name}"`)
    .filter((name) => name !== '"id"')
    .join(', ');
  const invented = `insert into run (id, ${others}) select 5, ${others} from run where account = $1 and id = 4`;
  for (const [said, ...changes] of [
    [/Run 5 has no entry/, invented],
    [/Run 5 has no entry/, invented, 'update account set next_run = next_run + 1 where id = $1'],
    [/Run 4 is missing/, 'delete from run where account = $1 and id = 4'],
    [/Entry 3 is missing/, 'delete from ledger_entry where account = $1 and seq = 3'],
    [/8 entries were written, and 7 are there/, 'delete from ledger_entry where account = $1 and seq = 8'],
    [
      /Run 4 is done, and its entries do not say so/,
      'delete from ledger_entry where account = $1 and seq = 8',
      'update account set next_entry = 8 where id = $1',
    ],
    [
      /Run 2 does not say what its entry says: askedBy/,
      `update run set asked_by = '{"user": "somebody"}' where account = $1 and id = 2`,
    ],
    [/Run 2 does not say what its entry says: label/, `update run set label = 'x' where account = $1 and id = 2`],
    [
      /Run 3 does not say what its entry says: endedAt/,
      `update run set ended_at = ended_at - interval '1 day' where account = $1 and id = 3`,
    ],
    [
      /The messages of run 4 are not those/,
      'update placement set size = size + 1 where account = $1 and purged_by = 4',
    ],
  ] as [RegExp, ...string[]][]) {
    const faults = await foundAfter(...changes);
    assert.ok(
      faults.some((fault) => said.test(fault)),
      `${changes.join('; ')}: ${faults.join(' ')}`,
    );
  }
});

test('how a run was asked for is what the session or the token says, not a header', async () => {
  const endsAt = new Date(Date.now() + 3_600_000).toISOString();
  const made = (await app.call('POST', `${account}/tokens`, { name: 'nightly', acts: true, endsAt })).body;
  const body = { action: 'restore', ids: [] };
  const [first, second] = await ids('folder = INBOX');
  const byToken = await fetch(`${app.origin}/api${account}/runs`, {
    method: 'POST',
    headers: { authorization: `Bearer ${made.token}`, origin: app.origin, 'content-type': 'application/json' },
    body: JSON.stringify({ ...body, action: 'trash', ids: [first] }),
  });
  assert.deepEqual([byToken.status, ((await byToken.json()) as any).askedBy.via], [202, 'script']);
  const bySession = await app.call('POST', `${account}/runs`, { action: 'trash', ids: [second] });
  assert.equal(bySession.body.askedBy.via, 'page', 'without an Origin too');
  const { body: run } = await app.call('GET', `${account}/runs/5`);
  assert.equal(run.askedBy.token, made.id);
});

test('without its key file a ledger is not checked with a new key', () => {
  unlinkSync(app.keyFile);
  assert.throws(() => Vault.existing(app.keyFile), /is missing/);
});
