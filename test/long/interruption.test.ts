import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { setTimeout as sleep } from 'node:timers/promises';
import { stateOf } from '../../stand-in/control';
import type { StandIn } from '../../stand-in/host';
import { App, cleanUp, hosted, indexed, SHORT_LEASE, startStandIn, tinyScenario, until } from '../harness';

after(cleanUp);

async function ready(hide: string[]) {
  const host = await startStandIn({ scenario: tinyScenario() });
  host.faults.hide = hide;
  const app = await App.start({ env: SHORT_LEASE });
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  return { host, app, account };
}

/** Waits until another worker than before holds the lease of a run that goes on; false where the run has ended. */
async function taken(app: App, path: string, before: string | null): Promise<string | null> {
  let holder: string | null = null;
  await until(async () => {
    if (['done', 'failed'].includes((await app.call('GET', path)).body.state)) return true;
    const { rows } = await app.database.query('select worker from job where done_at is null and lease_until > now()');
    holder = rows[0] && rows[0].worker !== before ? rows[0].worker : null;
    return holder !== null;
  });
  return holder;
}

/** Kills and cuts while a run is going, until it is done; gives how often. */
async function harass(app: App, host: StandIn, account: string, run: unknown, commands: string[]): Promise<number> {
  const started = await app.call('POST', `${account}/runs`, run);
  assert.equal(started.status, 202, JSON.stringify(started.body));
  const path = `${account}/runs/${started.body.id}`;
  let strikes = 0;
  for (let holder = await taken(app, path, null); holder !== null && strikes < 6; strikes++) {
    // A third between a command that was carried out and its answer, a third at random octets, a third by a kill alone.
    if (strikes % 3 === 0)
      host.faults.dropAnswerTo = { command: commands[(strikes / 3) % commands.length] as string, times: 1 };
    if (strikes % 3 === 1) host.faults.dropAfterBytes = 1_500 + Math.floor(Math.random() * 20_000);
    await sleep(200 + Math.random() * 2_000);
    await app.killWorker();
    host.faults.dropAfterBytes = 0;
    app.startWorker();
    holder = await taken(app, path, holder);
  }
  host.faults.dropAnswerTo = null;
  let ended = await app.finished(path);
  // Killed three times before it got on: a person has it go on.
  for (; ended.problem?.kind === 'worker-died'; ended = await app.finished(path))
    assert.equal((await app.call('POST', `${path}/resume`)).status, 202);
  assert.deepEqual([ended.state, ended.left, ended.done], ['done', [], ended.asked], JSON.stringify(ended.problem));
  return strikes;
}

test('runs killed and cut at random points end as an undisturbed twin does', async () => {
  let strikes = 0;
  for (const hide of [[], ['MOVE', 'UIDPLUS', 'OBJECTID']]) {
    const where =
      '(under = Offers or under = Bees or size > 300 kB or folder = "From the old computer") and size < 2 MB';
    const twin = await ready(hide);
    const lot = (await twin.app.call('POST', `${twin.account}/lots`, { where })).body;
    await twin.app.ran(twin.account, { action: 'trash', lots: [lot.id] });
    await twin.app.ran(twin.account, { action: 'restore', where: 'subject ~ spring', to: 'INBOX' });
    await twin.app.ran(twin.account, { action: 'purge', where: '' });
    await twin.app.killWorker();

    const { host, app, account } = await ready(hide);
    host.faults.latencyMs = 25;
    const same = (await app.call('POST', `${account}/lots`, { where })).body;
    assert.equal(same.bytes, lot.bytes);
    const commands = hide.length === 0 ? ['UID MOVE', 'UID EXPUNGE'] : ['UID COPY', 'UID STORE', 'EXPUNGE'];
    strikes += await harass(app, host, account, { action: 'trash', lots: [same.id] }, commands);
    strikes += await harass(
      app,
      host,
      account,
      { action: 'restore', where: 'subject ~ spring', to: 'INBOX' },
      commands,
    );
    strikes += await harass(app, host, account, { action: 'purge', where: '' }, ['UID STORE', ...commands]);
    host.faults.latencyMs = 0;
    assert.deepEqual(stateOf(host), stateOf(twin.host), `after ${strikes} strikes`);
    assert.deepEqual(await indexed(app, account), hosted(host));
    await app.scanned(account, true);
    assert.deepEqual(await indexed(app, account), hosted(host));
    await app.killWorker();
  }
  assert.ok(strikes >= 12, `${strikes} strikes`);
});

test('of a scan that was done when its worker died only the end is made up for, without the server', async () => {
  const { app, account } = await ready([]);
  await until(async () => (await app.database.query('select 1 from job where done_at is null')).rowCount === 0);
  const before = (await app.call('GET', `${account}/scans/last`)).body;
  await app.database.query('delete from credential');
  await app.database.query('delete from words');
  await app.database.query('update account set words_to = 0');
  await app.database.query(`update job set done_at = null, lease_until = now() where kind = 'scan'`);
  await until(async () => (await app.database.query('select 1 from job where done_at is null')).rowCount === 0);
  assert.deepEqual((await app.call('GET', `${account}/scans/last`)).body, before);
  const { rows } = await app.database.query(
    'select (select count(*) from words) as words, (select count(*) from message) as messages',
  );
  assert.equal(rows[0].words, rows[0].messages);
});
