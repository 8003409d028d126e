import assert from 'node:assert/strict';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { openDatabase } from '../../src/store/database';
import { migrate, wrongSetting } from '../../src/store/migrate';
import type { StandIn } from '../../stand-in/host';
import {
  App,
  cleanUp,
  DATABASE_AWAY,
  demoScenario,
  freshDatabase,
  later,
  ROOT,
  SHORT_LEASE,
  startStandIn,
  until,
} from '../harness';
import { startPgBouncer } from '../servers/pgbouncer';
import { Pair } from '../servers/standby';

after(cleanUp);

/** Refs of all messages by folder, sorted. */
function messagesOf(host: StandIn): Map<string, string[]> {
  return new Map(
    [...host.mailbox.folders].map(([name, { messages }]) => [name, messages.map(({ ref }) => ref).sort()]),
  );
}

const WHERE = 'under = Offers';

/** Has a run begin that brings many messages to the trash, slowly; gives its path. */
async function begin(app: App, host: StandIn): Promise<{ account: string; path: string; asked: number }> {
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  host.faults.latencyMs = 60;
  const lot = (await app.call('POST', `${account}/lots`, { where: WHERE })).body;
  const run = (await app.call('POST', `${account}/runs`, { action: 'trash', lots: [lot.id] })).body;
  return { account, path: `${account}/runs/${run.id}`, asked: run.asked.messages };
}

/** Waits until so many messages of a run are done; the database may be away meanwhile. */
async function someDone(app: App, path: string, least: number): Promise<void> {
  await until(
    async () => ((await app.call('GET', path).catch(() => undefined))?.body?.done?.messages ?? 0) >= least,
    90,
  );
}

/** What a run ended as: all of it done, each message in one place, and the ledger sound. */
async function endsExact(
  app: App,
  host: StandIn,
  { account, path, asked }: { account: string; path: string; asked: number },
  before: ReadonlyMap<string, string[]>,
): Promise<void> {
  let run: any;
  await until(async () => {
    run = (await app.call('GET', path).catch(() => undefined))?.body;
    return run?.state === 'done' || run?.state === 'failed';
  });
  assert.deepEqual([run.state, run.done.messages, run.left], ['done', asked, []], JSON.stringify(run));
  const now = messagesOf(host);
  assert.deepEqual([...now.values()].flat().sort(), [...before.values()].flat().sort(), 'nothing is lost or doubled');
  assert.equal((now.get('Trash')?.length ?? 0) - (before.get('Trash')?.length ?? 0), asked);
  const check = (await app.call('GET', `${account}/ledger/check`)).body;
  assert.deepEqual(check.faults, []);
}

test('through PgBouncer in transaction mode, with four connections for all, the job ends as without', async () => {
  const { url } = await freshDatabase();
  const pooled = await startPgBouncer(url, 4);
  const direct = openDatabase(url, 1);
  later(() => direct.end());
  assert.deepEqual(await migrate(direct, join(ROOT, 'src/store/migrations')), []);
  const host = await startStandIn({ scenario: demoScenario() });
  const app = await App.start({ env: { TAMSEL_DATABASE_URL: pooled } });
  const before = messagesOf(host);
  const run = await begin(app, host);
  // What happens is told to whoever watches, though nobody can listen.
  const watching = new AbortController();
  const events = await fetch(`${app.origin}/api${run.account}/events`, {
    headers: { cookie: app.cookie },
    signal: watching.signal,
  });
  let told = '';
  void (async () => {
    for await (const part of events.body as unknown as AsyncIterable<Uint8Array>) told += Buffer.from(part).toString();
  })().catch(() => undefined);
  await endsExact(app, host, run, before);
  await until(() => /event: run/.test(told) && /"state":"done"/.test(told));
  watching.abort();
  const { rows } = await direct.query(
    `select count(*)::int as sessions from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()`,
  );
  assert.ok(rows[0].sessions <= 4, `${rows[0].sessions} sessions`);
});

test('without saying that it is pooled, Tamsel is refused and says so, rather than write with other settings', async () => {
  const { url } = await freshDatabase();
  const pooled = await startPgBouncer(url, 2);
  const unsaid = openDatabase(pooled.replace('?pooler=transaction', ''), 1);
  later(() => unsaid.end());
  await assert.rejects(unsaid.query('select 1'), /unsupported startup parameter/);
});

test('a role that does not own its database can use it all the same, but for a pooler', async () => {
  const { url, database } = await freshDatabase();
  const { rows } = await database.query('select quote_ident(current_database()) as name, current_user as superuser');
  await database.query(`alter database ${rows[0].name} owner to ${rows[0].superuser}`);
  await database.query('grant all on schema public to tamsel');
  const direct = openDatabase(url, 1);
  later(() => direct.end());
  assert.deepEqual(await migrate(direct, join(ROOT, 'src/store/migrations')), []);
  await database.query(`alter database ${rows[0].name} set bytea_output = 'escape'`);
  await migrate(direct, join(ROOT, 'src/store/migrations'));
  assert.equal(await wrongSetting(direct), undefined, 'each session has its own');
  const pooled = openDatabase(await startPgBouncer(url, 1), 1);
  later(() => pooled.end());
  assert.equal(await wrongSetting(pooled), 'bytea_output', 'a pooled one has those of the database');
});

test('where the primary is lost in the middle of a run, the standby takes over and the run goes on', async () => {
  const pair = await Pair.start();
  const host = await startStandIn({ scenario: demoScenario() });
  const app = await App.start({ env: { TAMSEL_DATABASE_URL: pair.url, ...SHORT_LEASE } });
  app.expectError(DATABASE_AWAY);
  const before = messagesOf(host);
  const run = await begin(app, host);
  await someDone(app, run.path, 1);
  pair.losePrimary();
  const away = await app.call('GET', run.path).catch(() => undefined);
  assert.ok(away === undefined || away.status >= 500 || away.status === 200);
  pair.promote();
  await endsExact(app, host, run, before);
});

test('a rolling restart of web and workers in the middle of a run loses nothing', async () => {
  const host = await startStandIn({ scenario: demoScenario() });
  const app = await App.start({ env: SHORT_LEASE });
  const before = messagesOf(host);
  const run = await begin(app, host);
  await someDone(app, run.path, 1);
  app.addWorker();
  await app.endWorker();
  app.startWorker();
  await app.endExtraWorker();
  await app.endWeb();
  await app.startWeb();
  await endsExact(app, host, run, before);
});
