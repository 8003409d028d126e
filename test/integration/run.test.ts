import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { stateOf } from '../../stand-in/control';
import type { Faults } from '../../stand-in/faults';
import { App, cleanUp, demoScenario, hosted, indexed, startStandIn, tinyScenario, until } from '../harness';

after(cleanUp);

async function ready(faults: Partial<Faults> = {}, options: Parameters<typeof startStandIn>[0] = {}) {
  const host = await startStandIn({ scenario: tinyScenario(), ...options });
  Object.assign(host.faults, faults);
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  return { host, app, account };
}

/** The whole job on one mailbox: to the trash, a part taken back, the rest purged. */
async function job(app: App, account: string): Promise<{ trash: any; restore: any; purge: any }> {
  const lots = [];
  for (const where of ['size > 200 kB and size < 2 MB and not flagged', 'domain = fenwater.example or from ~ weather'])
    lots.push((await app.call('POST', `${account}/lots`, { where })).body.id);
  const trash = await app.ran(account, { action: 'trash', lots });
  const restore = await app.ran(account, { action: 'restore', where: 'subject ~ drone or from ~ parish', to: 'INBOX' });
  const purge = await app.ran(account, { action: 'purge', where: '' });
  return { trash, restore, purge };
}

function moved({ before, after }: { before: any; after: any }): [number, number | null] {
  return [before.counted - after.counted, before.used === null ? null : before.used - after.used];
}

const DIALECTS: [string, Partial<Faults>][] = [
  ['all extensions', {}],
  ['without MOVE, as Courier, and figures that count LF', { hide: ['MOVE'], countsLf: true, emptyBeyondLast: true }],
  ['without UIDPLUS', { hide: ['UIDPLUS'] }],
  [
    'without MOVE, UIDPLUS, OBJECTID, ESEARCH and CONDSTORE',
    { hide: ['MOVE', 'UIDPLUS', 'OBJECTID', 'ESEARCH', 'CONDSTORE'] },
  ],
];

test('the job ends the same in every dialect: won back to the octet, the server’s figure within its unit', async () => {
  let expected: ReturnType<typeof stateOf> | undefined;
  for (const [name, faults] of DIALECTS) {
    const { host, app, account } = await ready(faults);
    const drafts = host.mailbox.folder('INBOX');
    const marked = drafts?.messages.slice(10, 14) ?? [];
    host.mailbox.setFlags(
      drafts as never,
      marked.map((placed) => ({ placed, flags: new Set([...placed.flags, 'deleted']) })),
    );
    await app.scanned(account, true);
    const { trash, restore, purge } = await job(app, account);
    assert.deepEqual(
      [trash.state, restore.state, purge.state, trash.left, restore.left, purge.left],
      ['done', 'done', 'done', [], [], []],
      name,
    );
    assert.deepEqual(trash.done, trash.asked);
    const [counted, used] = moved(purge);
    assert.equal(counted, purge.asked.bytes, name);
    const unit = 1024 + (faults.countsLf ? counted / 40 : 0);
    assert.ok(Math.abs((used ?? 0) - counted) <= unit, name);
    assert.deepEqual(moved(trash)[0], 0);
    assert.deepEqual(await indexed(app, account), hosted(host), name);
    await app.scanned(account, true);
    assert.deepEqual(await indexed(app, account), hosted(host), name);
    assert.ok(
      marked.every(({ gone, flags }) => gone || flags.has('deleted')),
      'what others marked is neither expunged nor unmarked',
    );
    expected ??= stateOf(host);
    assert.deepEqual(stateOf(host), expected, name);
    await app.killWorker();
  }
});

test('a run touches exactly what was frozen, and tells why the rest was left', async () => {
  const { host, app, account } = await ready();
  const lot = (await app.call('POST', `${account}/lots`, { where: 'folder = Offers and size > 30 kB' })).body;
  const offers = host.mailbox.folder('Offers');
  assert.ok(offers);
  const large = offers.messages.filter(({ item }) => item.size > 30_000);
  host.mailbox.expunge(offers, large.slice(0, 3));
  host.mailbox.move(offers, large.slice(3, 5), host.mailbox.folder('Archive') as never);
  host.mailbox.append(
    offers,
    Buffer.concat([Buffer.from('Subject: came later\r\n\r\n'), Buffer.alloc(50_000, 'x')]),
    1_700_000_000,
    [],
  );
  const run = await app.ran(account, { action: 'trash', lots: [lot.id] });
  assert.deepEqual(
    run.left.map(({ reason, messages }: { reason: string; messages: number }) => [reason, messages]),
    [
      ['moved', 2],
      ['vanished', 3],
    ],
  );
  assert.equal(run.done.messages, lot.messages - 5);
  const stay = offers.messages.filter(({ item, flags }) => item.size > 30_000 && !flags.has('flagged'));
  assert.equal(stay.length, 1, 'what came later stays, and what a guard protects');
  const listed = (await app.call('GET', `${account}/runs/${run.id}/messages`, undefined, { accept: 'text/csv' })).body
    .trim()
    .split('\r\n');
  assert.equal(listed.length, lot.messages + 1);
  assert.equal(listed.filter((line: string) => line.endsWith(',vanished')).length, 3);
  const lines = (await app.call('GET', `${account}/runs/${run.id}/messages?format=jsonl`)).body
    .trim()
    .split('\n')
    .map((line: string) => JSON.parse(line));
  assert.equal(lines.filter(({ outcome }: { outcome: string }) => outcome === 'done').length, run.done.messages);
  // The trash gets new UIDs: its messages are found again by what they are, and the run can be undone all the same.
  host.mailbox.changeUidValidity('Trash');
  const undone = await app.ran(account, { action: 'restore', run: run.id });
  assert.deepEqual([undone.state, undone.left, undone.done], ['done', [], run.done], JSON.stringify(undone.problem));
  await app.scanned(account, true);
  assert.deepEqual(await indexed(app, account), hosted(host));
});

test('brim-full without MOVE: what fits goes, the rest is left for want of room; after a purge it goes on', async () => {
  const { host, app, account } = await ready({ hide: ['MOVE'] });
  // Brought to a few kilobytes below the limit by a message of another client.
  const room = host.mailbox.limit - host.mailbox.used();
  host.mailbox.append(
    host.mailbox.folder('Archive') as never,
    Buffer.concat([Buffer.from('Subject: ballast\r\n\r\n'), Buffer.alloc(room - 60_000, 'x')]),
    1_700_000_000,
    [],
  );
  await app.scanned(account, true);
  const lot = (await app.call('POST', `${account}/lots`, { where: 'folder = INBOX' })).body;
  const run = await app.ran(account, { action: 'trash', lots: [lot.id] });
  assert.equal(run.state, 'done');
  assert.deepEqual(
    run.left.map(({ reason }: { reason: string }) => reason),
    ['no-room'],
  );
  assert.equal(run.problem.kind, 'no-room');
  assert.equal(run.done.messages + run.left[0].messages, run.asked.messages);
  assert.ok(run.done.messages > 30);
  assert.equal(
    host.mailbox.folder('INBOX')?.messages.length,
    run.left[0].messages + lot.guarded.messages,
    'nothing is in both folders or in none',
  );
  await app.ran(account, { action: 'purge', where: '' });
  const rest = await app.ran(account, {
    action: 'trash',
    lots: [(await app.call('POST', `${account}/lots`, { where: 'folder = INBOX and size < 1 MB' })).body.id],
  });
  assert.deepEqual(rest.left, []);
  const direct = (await app.call('POST', `${account}/lots`, { where: 'folder = INBOX', fate: 'purge' })).body;
  assert.equal((await app.ran(account, { action: 'purge', lots: [direct.id] })).done.messages, direct.messages);
  assert.equal(host.mailbox.folder('INBOX')?.messages.length, direct.guarded.messages);
});

test('a figure that lags is told as it is: counted at once, the server’s later', async () => {
  const { host, app, account } = await ready();
  host.faults.quotaLagSeconds = 3600;
  const purge = await app.ran(account, { action: 'purge', where: '' });
  const [counted, used] = moved(purge);
  assert.equal(counted, purge.asked.bytes);
  assert.equal(used, 0);
  const level = (await app.call('GET', `${account}/level`)).body;
  assert.ok(level.other >= counted, 'what the lagging figure still holds is not called mail');
});

test('pause, go on, cancel: what was done stays accounted for, and two runs wait for each other', async () => {
  const { host, app, account } = await ready({}, { scenario: demoScenario() });
  host.faults.latencyMs = 400;
  const lots = [];
  for (const where of ['under = Offers', 'folder = Bees'])
    lots.push((await app.call('POST', `${account}/lots`, { where })).body.id);
  const started = [];
  for (const lot of lots)
    started.push((await app.call('POST', `${account}/runs`, { action: 'trash', lots: [lot] })).body.id);
  const path = `${account}/runs/${started[0]}`;
  await until(async () => (await app.call('GET', path)).body.done.messages > 0);
  assert.equal((await app.call('POST', `${path}/pause`)).status, 202);
  const paused = await app.finished(path);
  assert.equal(paused.state, 'paused');
  assert.ok(paused.done.messages < paused.asked.messages);
  const { body } = await app.call('POST', `${path}/pause`);
  assert.equal(body.type, '/problems/wrong-state');
  host.faults.latencyMs = 0;
  const other = await app.finished(`${account}/runs/${started[1]}`);
  assert.equal(other.state, 'done', 'the other run does not wait for one that is paused');
  host.faults.latencyMs = 400;
  await app.call('POST', `${path}/resume`);
  await until(async () => (await app.call('GET', path)).body.done.messages > paused.done.messages);
  await app.call('POST', `${path}/cancel`);
  host.faults.latencyMs = 0;
  const ended = await app.finished(path);
  const left = ended.left.reduce((sum: number, { messages }: { messages: number }) => sum + messages, 0);
  assert.equal(ended.done.messages + left, ended.asked.messages);
  await app.scanned(account, true);
  assert.deepEqual(await indexed(app, account), hosted(host));
});
