import assert from 'node:assert/strict';
import { execFile } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import { promisify } from 'node:util';
import { numbersOf } from '../../src/core/sets/ranges';
import { transaction } from '../../src/store/database';
import { foldersOf, generationFor } from '../../src/store/index/folders';
import { stateOf } from '../../stand-in/control';
import { type Faults, noFaults } from '../../stand-in/faults';
import type { StandIn } from '../../stand-in/host';
import type { Folder } from '../../stand-in/mailbox/folder';
import type { Change } from '../../stand-in/mailbox/journal';
import { Submission } from '../../stand-in/submission';
import {
  App,
  cleanUp,
  hosted,
  indexed,
  later,
  ROOT,
  startStandIn,
  temporaryFolder,
  tinyScenario,
  USER,
  until,
} from '../harness';

let app: App;
const submissionHost: { submission?: Submission } = {};

before(async () => {
  const sink = await startStandIn({ scenario: { ...tinyScenario(), messages: [] } });
  const submission = await Submission.start('nobody@saltmarshlane.example', sink.mailbox);
  later(() => submission.stop());
  submissionHost.submission = submission;
  app = await App.start({
    env: { TAMSEL_SMTP_URL: `smtp://127.0.0.1:${submission.port}`, TAMSEL_SMTP_FROM: 'tamsel@saltmarshlane.example' },
  });
});
after(cleanUp);

/** A mailbox of its own before the one app: each port is another account. */
async function ready(faults: Partial<Faults> = {}, options: Parameters<typeof startStandIn>[0] = {}) {
  const host = await startStandIn({ scenario: tinyScenario(), ...options });
  host.faults = { ...noFaults(), ...faults };
  app.cookie = '';
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  return { host, account };
}

const reasons = (run: { left: { reason: string; messages: number }[] }) =>
  Object.fromEntries(run.left.map(({ reason, messages }) => [reason, messages]));
const held = (host: StandIn, folder: string) => host.mailbox.folder(folder)?.messages.length ?? 0;
const agree = async (host: StandIn, account: string) => {
  await app.scanned(account, true);
  assert.deepEqual(await indexed(app, account), hosted(host));
};

test('a server that takes short commands only, or asks for patience, gets what it wants, and the page says so', async () => {
  const { host, account } = await ready();
  host.faults.longestCommand = 200;
  const short = await app.ran(account, { action: 'trash', where: 'under = Offers and not guarded' });
  assert.deepEqual([short.state, short.left, short.done], ['done', [], short.asked], JSON.stringify(short.problem));
  host.faults.longestCommand = 0;
  host.faults.throttleMs = 300;
  const started = await app.call('POST', `${account}/runs`, { action: 'restore', run: short.id });
  const path = `${account}/runs/${started.body.id}`;
  await until(async () => (await app.call('GET', path)).body.problem?.kind === 'throttled');
  host.faults.throttleMs = 0;
  const slow = await app.finished(path);
  assert.deepEqual([slow.state, slow.left, slow.done, slow.problem], ['done', [], short.done, undefined]);
  // A sign-in that is put off says nothing about the password.
  host.faults.refuse = { command: 'LOGIN', code: 'UNAVAILABLE', text: 'In a moment', times: 2 };
  host.dropAll();
  await agree(host, account);
});

test('what may not be removed is left with its reason, and no copy of it stays in the trash', async () => {
  for (const hide of [[], ['MOVE'], ['MOVE', 'UIDPLUS']]) {
    const { host, account } = await ready({ hide });
    const before = stateOf(host);
    host.faults.noDelete = ['Offers'];
    host.faults.readOnly = ['Bees'];
    const run = await app.ran(account, {
      action: 'trash',
      where: '(folder = Offers or folder = Bees) and size < 200 kB and not guarded',
    });
    assert.deepEqual([run.state, run.done.messages], ['done', 0], JSON.stringify(run.problem));
    const left = reasons(run);
    assert.deepEqual(Object.keys(left), ['read-only'], JSON.stringify(left));
    host.faults.noDelete = [];
    host.faults.readOnly = [];
    assert.deepEqual(stateOf(host), before, hide.join(' '));
    const again = await app.ran(account, { action: 'trash', rest: run.id });
    assert.deepEqual([again.state, again.left, again.done], ['done', [], run.asked]);
  }
});

test('a server that puts into the trash itself what is expunged: nothing is there twice, and a purge goes on to the end', async () => {
  const { host, account } = await ready({ trashesByItself: true, hide: ['MOVE'] });
  const trashed = held(host, 'Trash');
  // Each message is copied before it goes, which needs room for the largest.
  const run = await app.ran(account, { action: 'trash', where: 'folder = Offers and size < 1 MB and not guarded' });
  assert.deepEqual([run.state, run.left, run.done], ['done', [], run.asked], JSON.stringify(run.problem));
  assert.equal(held(host, 'Trash'), trashed + run.done.messages);
  const lot = (await app.call('POST', `${account}/lots`, { where: 'folder = Bees', fate: 'purge' })).body;
  const total = host.mailbox.messageCount();
  const purge = await app.ran(account, { action: 'purge', lots: [lot.id] });
  assert.deepEqual([purge.state, purge.left, purge.done.messages], ['done', [], lot.messages]);
  assert.equal(host.mailbox.messageCount(), total - lot.messages);
  await agree(host, account);
});

test('a missing trash folder is made when asked, marked where the server can, and known without that', async () => {
  const scenario = { ...tinyScenario() };
  scenario.folders = scenario.folders.filter(({ name }) => name !== 'Trash');
  scenario.messages = scenario.messages.filter(({ folder }) => folder !== 'Trash');
  for (const hide of [[], ['SPECIAL-USE', 'CREATE-SPECIAL-USE']]) {
    const { host, account } = await ready({ hide }, { scenario });
    const refused = await app.call('POST', `${account}/runs`, { action: 'trash', where: 'folder = Offers' });
    assert.equal(refused.body.type, '/problems/no-trash-folder');
    assert.deepEqual((await app.call('POST', `${account}/trash`, {})).body, { folder: 'Trash' });
    assert.equal(host.mailbox.folder('Trash')?.use, hide.length === 0 ? '\\Trash' : undefined);
    const run = await app.ran(account, { action: 'trash', where: 'folder = Offers and not guarded' });
    assert.deepEqual([run.left, held(host, 'Trash')], [[], run.asked.messages]);
  }
});

test('a folder that is gone is made again for what came from it; one that others remove is told as the reason', async () => {
  const { host, account } = await ready();
  const bees = held(host, 'Bees');
  const run = await app.ran(account, { action: 'trash', where: 'folder = Bees and not guarded' });
  const rest = host.mailbox.folder('Bees')?.messages ?? [];
  host.mailbox.move(host.mailbox.folder('Bees') as never, rest, host.mailbox.folder('Archive') as never);
  host.mailbox.delete('Bees');
  const undone = await app.ran(account, { action: 'restore', run: run.id });
  assert.deepEqual([undone.left, undone.done, held(host, 'Bees')], [[], run.done, bees - rest.length]);
  await agree(host, account);
  assert.equal((await app.call('GET', `${account}/runs/${run.id}`)).body.undo.messages, 0);

  await app.killWorker();
  const asked = await app.call('POST', `${account}/runs`, { action: 'trash', where: 'folder = Bees and not guarded' });
  host.mailbox.delete('Bees');
  app.startWorker();
  const gone = await app.finished(`${account}/runs/${asked.body.id}`);
  assert.deepEqual([gone.state, reasons(gone)], ['done', { 'folder-gone': asked.body.asked.messages }]);
});

test('a worker that dies between closing a folder of another UIDVALIDITY and reading it anew leaves nothing as changed', async () => {
  const { host, account } = await ready();
  await app.killWorker();
  const asked = await app.call('POST', `${account}/runs`, { action: 'trash', where: 'folder = Bees and not guarded' });
  host.mailbox.changeUidValidity('Bees');
  const id = Number(account.split('/').at(-1));
  const folder = (await foldersOf(app.database, id)).find(({ path }) => path === 'Bees');
  assert.ok(folder);
  // What the worker that died had written down.
  await transaction(app.database, (client) =>
    generationFor(client, id, folder.id, host.mailbox.folder('Bees')?.uidValidity as number),
  );
  app.startWorker();
  const run = await app.finished(`${account}/runs/${asked.body.id}`);
  assert.ok(run.asked.messages > 0);
  assert.deepEqual([run.state, run.left, run.done], ['done', [], run.asked]);
  await agree(host, account);
});

test('without MOVE, what others do to the trash between a copy and the removal of its original never costs a message', async () => {
  for (const act of ['validity', 'copy'] as const) {
    const { host, account } = await ready({ hide: act === 'copy' ? ['MOVE'] : ['MOVE', 'UIDPLUS'] });
    const offers = host.mailbox.folder('Offers') as Folder;
    const trash = host.mailbox.folder('Trash') as Folder;
    const before = new Set([...offers.messages, ...trash.messages].map(({ item }) => item));
    const since = offers.messages.length + trash.messages.length;
    let acted = 0;
    host.mailbox.watcher = ([change]) => {
      if (change?.op !== 'add' || change.folder !== 'Trash' || acted > 0) return;
      acted++;
      setImmediate(() => {
        if (act === 'validity') host.mailbox.changeUidValidity('Trash');
        // Another program that takes the same messages to the trash, by a copy as servers of this kind need it.
        else host.mailbox.copy(offers.messages.slice(0, 3), trash);
      });
    };
    const run = await app.ran(account, { action: 'trash', where: 'folder = Offers and not guarded' });
    host.mailbox.watcher = undefined;
    assert.equal(acted, 1);
    assert.equal(run.state, 'done', JSON.stringify(run.problem));
    const after = [...offers.messages, ...trash.messages];
    assert.deepEqual(new Set(after.map(({ item }) => item)), before, `${act}: every message is there`);
    assert.ok(after.length >= since);
    await agree(host, account);
  }
});

test('a purge takes no copy in the trash for what the server put there, whatever others do to the trash meanwhile', async () => {
  for (const act of ['validity', 'copy'] as const) {
    const host = await startStandIn({ scenario: tinyScenario() });
    const offers = host.mailbox.folder('Offers') as Folder;
    const trash = host.mailbox.folder('Trash') as Folder;
    // Twice, so that nobody can tell the two apart once their UIDs mean nothing.
    for (let copies = 0; copies < 2; copies++) host.mailbox.copy(offers.messages.slice(0, 5), trash);
    app.cookie = '';
    const account = await app.signIn({ port: host.plainPort });
    await app.scanned(account);
    const kept = trash.messages.map(({ item }) => item);
    const lot = (await app.call('POST', `${account}/lots`, { where: 'folder = Offers', fate: 'purge' })).body;
    const isDue = (change: Change | undefined) =>
      change?.folder === 'Offers' && change.op === (act === 'validity' ? 'remove' : 'flags');
    host.mailbox.watcher = (changes) => {
      if (!isDue(changes[0])) return;
      host.mailbox.watcher = undefined;
      const marked = new Set(changes.flatMap((change) => (change.op === 'flags' ? [...numbersOf(change.uids)] : [])));
      setImmediate(() => {
        if (act === 'validity') host.mailbox.changeUidValidity('Trash');
        const few = offers.messages.filter(({ uid }) => marked.has(uid)).slice(0, 3);
        for (const { item } of few) kept.push(item);
        if (few.length > 0) host.mailbox.copy(few, trash);
      });
    };
    const run = await app.ran(account, { action: 'purge', lots: [lot.id] });
    assert.equal(host.mailbox.watcher, undefined);
    assert.equal(kept.length, trash.messages.length);
    assert.deepEqual([run.state, run.done.messages], ['done', lot.messages], JSON.stringify(run.problem));
    assert.deepEqual(
      trash.messages.map(({ item }) => item),
      kept,
      `${act}: what was not asked for stays`,
    );
    await agree(host, account);
  }
});

test('a password that stops working ends the run with a sentence; after signing in again it goes on as if undisturbed', async () => {
  const { host, account } = await ready();
  host.faults.latencyMs = 250;
  const where = '(folder = INBOX or folder = Offers or folder = Photographs or under = Committee) and not guarded';
  const started = await app.call('POST', `${account}/runs`, { action: 'trash', where });
  const path = `${account}/runs/${started.body.id}`;
  await until(async () => (await app.call('GET', path)).body.done.messages > 0);
  host.faults.refuseSignIn = true;
  host.dropAll();
  const stopped = await app.finished(path);
  assert.deepEqual([stopped.state, stopped.problem.kind], ['failed', 'sign-in-needed']);
  assert.ok(stopped.done.messages < stopped.asked.messages);
  host.faults = noFaults();
  await app.signIn({ port: host.plainPort });
  const ended = await app.finished(path);
  assert.deepEqual([ended.state, ended.left, ended.done], ['done', [], ended.asked]);
  await agree(host, account);
});

test('an empty trash, a full quota: a clear sentence, nothing lost, and the rest goes when there is room', async () => {
  const { host, account } = await ready();
  const run = await app.ran(account, {
    action: 'trash',
    where: 'folder = Offers and size > 30 kB and size < 200 kB and not guarded',
  });
  const others = host.mailbox.folder('Trash') as NonNullable<ReturnType<StandIn['mailbox']['folder']>>;
  host.faults.hide = ['MOVE'];
  host.dropAll();
  const ballast = Buffer.alloc(host.mailbox.limit - host.mailbox.used() - 2_000, 'x');
  host.mailbox.append(
    host.mailbox.folder('Archive') as never,
    Buffer.concat([Buffer.from('Subject: ballast\r\n\r\n'), ballast]),
    1_700_000_000,
    [],
  );
  const full = await app.ran(account, { action: 'restore', run: run.id });
  assert.deepEqual([full.state, reasons(full)], ['done', { 'no-room': run.done.messages }]);
  host.mailbox.expunge(
    host.mailbox.folder('Archive') as never,
    host.mailbox.folder('Archive')?.messages.slice(-1) ?? [],
  );
  const rest = await app.ran(account, { action: 'restore', rest: full.id });
  assert.deepEqual([rest.left, rest.done], [[], run.done]);
  host.mailbox.expunge(others, [...others.messages]);
  await app.scanned(account, true);
  const empty = await app.call('POST', `${account}/runs`, { action: 'purge', where: '' });
  assert.deepEqual([empty.status, empty.body.type], [409, '/problems/nothing-to-do']);
  assert.match(empty.body.detail, /no messages to do this to/);
});

test('a run that waits takes nothing that another brought elsewhere before its turn', async () => {
  const { host, account } = await ready();
  const run = await app.ran(account, { action: 'trash', where: 'folder = Offers and not guarded' });
  await app.killWorker();
  const restore = await app.call('POST', `${account}/runs`, { action: 'restore', run: run.id });
  const purge = await app.call('POST', `${account}/runs`, { action: 'purge', run: run.id });
  assert.deepEqual([restore.status, purge.status], [202, 202]);
  app.startWorker();
  const ended = await app.finished(`${account}/runs/${purge.body.id}`);
  assert.deepEqual([ended.done.messages, reasons(ended)], [0, { moved: run.done.messages }]);
  await agree(host, account);
});

test('a message in several folders goes from all of them where that was asked, and from one where not', async () => {
  const { host, account } = await ready();
  const offers = host.mailbox.folder('Offers');
  const some = offers?.messages.filter(({ flags }) => flags.size === 0 || flags.has('seen')).slice(0, 5) ?? [];
  host.mailbox.copy(some, host.mailbox.folder('Archive') as never);
  await app.scanned(account, true);
  const archived = held(host, 'Archive');
  const one = await app.ran(account, { action: 'trash', where: 'folder = Offers and not guarded' });
  assert.equal(held(host, 'Archive'), archived);
  await app.ran(account, { action: 'restore', run: one.id });
  const all = await app.ran(account, { action: 'trash', where: 'folder = Offers and not guarded', copies: true });
  assert.equal(all.asked.messages - one.asked.messages, archived - held(host, 'Archive'));
  assert.ok(archived > held(host, 'Archive'));
});

test('the trash says when what went in; a purge can be bound to that, to what was shown, and to a folder with what is below', async () => {
  const { host, account } = await ready();
  const trash = host.mailbox.folder('Trash');
  const cut = new Date('2026-11-10T00:00:00Z');
  const older = trash?.messages.filter(({ saved }) => saved * 1000 < cut.getTime()).length ?? 0;
  const found = (await app.call('GET', `${account}/messages?scope=trash&limit=1&before=${cut.toISOString()}`)).body;
  assert.deepEqual([found.total.messages, older > 5], [older, true]);
  const newest = (await app.call('GET', `${account}/messages?scope=trash&order=placed&limit=1`)).body.messages[0];
  assert.equal(Date.parse(newest.placedAt) / 1000, Math.max(...(trash?.messages.map(({ saved }) => saved) ?? [])));
  const { version } = (await app.call('GET', `${account}/level`)).body;
  const run = await app.ran(account, { action: 'trash', where: 'folder = Offers and not guarded' });
  await app.call('PATCH', `${account}/settings`, { trashDays: 30 });
  // A run of two lots: one is taken back, the other purged.
  const two = [];
  for (const where of ['folder = Bees', 'folder = Archive'])
    two.push((await app.call('POST', `${account}/lots`, { where })).body);
  const both = await app.ran(account, { action: 'trash', lots: two.map(({ id }) => id) });
  const parts = (await app.call('GET', `${account}/trash`)).body.groups[0].lots;
  assert.deepEqual(
    parts.map(({ id, messages }: { id: number; messages: number }) => [id, messages]),
    two.map(({ id, messages }) => [id, messages]),
  );
  const lotBack = await app.ran(account, { action: 'restore', lots: [two[0].id] });
  const lotGone = await app.ran(account, { action: 'purge', lots: [two[1].id] });
  assert.deepEqual([lotBack.done.messages, lotGone.done.messages], [two[0].messages, two[1].messages]);
  assert.equal(both.done.messages, two[0].messages + two[1].messages);
  const { groups } = (await app.call('GET', `${account}/trash`)).body;
  assert.deepEqual(
    groups.map(({ run, messages }: { run: number | null; messages: number }) => [run, messages]),
    [
      [run.id, run.done.messages],
      [null, held(host, 'Trash') - run.done.messages],
    ],
  );
  assert.equal(Date.parse(groups[0].dropped.last) - Date.parse(groups[0].last), 30 * 86_400_000);
  const old = await app.ran(account, { action: 'purge', where: 'not guarded', before: cut.toISOString() });
  assert.ok(old.done.messages > 0 && old.done.messages <= older);
  const shown = await app.ran(account, { action: 'purge', where: 'not guarded', asOf: version });
  assert.equal((await app.call('GET', `${account}/runs/${run.id}`)).body.undo.messages, run.done.messages);
  assert.ok(shown.done.messages > 0);
  const below = await app.ran(account, { action: 'purge', folder: 'Archive', subfolders: true });
  const kept = Object.entries(hosted(host)).filter(([path]) => /^Archive($|\/)/.test(path));
  assert.equal(
    kept.reduce((sum, [, { messages }]) => sum + messages, 0),
    reasons(below).guarded ?? 0,
  );
  await agree(host, account);
});

test('the server’s figure that lags is looked at again until it has followed, and the ledger says when', async () => {
  const { host, account } = await ready({ quotaLagSeconds: 3_600 });
  const purge = await app.ran(account, { action: 'purge', where: 'not guarded' });
  assert.equal(purge.settled, null);
  const { rows } = await app.database.query(
    `select 1 from job where kind = 'quota-check' and done_at is null and account = $1`,
    [account.split('/').at(-1)],
  );
  assert.equal(rows.length, 1);
  host.faults.quotaLagSeconds = 0;
  host.mailbox.append(
    host.mailbox.folder('INBOX') as never,
    Buffer.from('Subject: new\r\n\r\nhello'),
    1_700_000_000,
    [],
  );
  await app.scanned(account, true);
  await until(async () => (await app.call('GET', `${account}/runs/${purge.id}`)).body.settled !== null);
  const { settled } = (await app.call('GET', `${account}/runs/${purge.id}`)).body;
  assert.ok(Math.abs(purge.before.used - settled.used - (purge.before.counted - settled.counted)) <= 1_024);
});

test('mail goes to one confirmed address, tells what was asked for, and is so many a day', async () => {
  const { host, account } = await ready();
  const id = Number(account.split('/').at(-1));
  const taken = submissionHost.submission?.taken ?? [];
  const mail = (index: number) => taken[index]?.octets.toString('utf8') ?? '';
  await app.call('PATCH', `${account}/settings`, { mailWhen: 'always', mailNewBrowser: true });
  await app.ran(account, { action: 'trash', where: 'folder = Offers and not guarded' });
  assert.equal((await app.call('PATCH', `${account}/settings`, { mailTo: 'chair@saltmarshlane.example' })).status, 422);
  assert.equal((await app.call('POST', `${account}/mail-address`, { to: 'nobody' })).status, 422);
  const to = 'chair@saltmarshlane.example';
  assert.equal((await app.call('POST', `${account}/mail-address`, { to })).status, 202);
  await until(() => taken.length === 1);
  assert.deepEqual(taken[0]?.to, [to]);
  assert.ok(!mail(0).includes(USER), 'nothing that anybody chose is in it');
  const code = /: (\d{8})/.exec(mail(0))?.[1] as string;
  const type = async (typed: string) =>
    (await app.call('POST', `${account}/mail-address/code`, { code: typed })).status;
  const wrong = code === '00000000' ? '00000001' : '00000000';
  assert.equal(await type(wrong), 422);
  await app.database.query(`update mail_confirmation set made_at = now() - interval '61 minutes' where account = $1`, [
    id,
  ]);
  assert.equal(await type(code), 422, 'after an hour it is too old');
  await app.database.query('update mail_confirmation set made_at = now() where account = $1', [id]);
  assert.equal(await type(code), 200);
  assert.equal(await type(code), 422, 'it is good once');

  const run = await app.ran(account, { action: 'purge', where: 'not guarded', label: 'Buy at http://evil.example' });
  await until(() => taken.length === 2);
  assert.deepEqual(taken[1]?.to, [to]);
  assert.match(mail(1), new RegExp(`Subject: Run ${run.id} has ended: ${run.done.messages} messages purged`));
  assert.match(mail(1), /Auto-Submitted: auto-generated/);
  assert.ok(!mail(1).includes('evil'), 'no label is in it');

  // A browser that is known says nothing; another does.
  await app.signIn({ port: host.plainPort });
  app.forgetCookie();
  await app.signIn({ port: host.plainPort });
  await until(() => taken.some((_, index) => mail(index).includes('A new browser signed in')));
  assert.equal(taken.filter((_, index) => mail(index).includes('A new browser')).length, 1);

  // Five tries use a code up.
  assert.equal((await app.call('POST', `${account}/mail-address`, { to })).status, 202);
  for (let tries = 0; tries < 5; tries++) assert.equal(await type(wrong), 422);
  const { rows } = await app.database.query('select tries from mail_confirmation where account = $1', [id]);
  assert.equal(rows[0].tries, 5);
  await until(() => (/: (\d{8})/.exec(mail(taken.length - 1)) ?? undefined) !== undefined);
  assert.equal(
    await type(/: (\d{8})/.exec(mail(taken.length - 1))?.[1] as string),
    422,
    'the right one comes too late',
  );

  await app.database.query('update mail_sent set mails = 20 where account = $1', [id]);
  const before = taken.length;
  await app.ran(account, { action: 'trash', where: 'folder = Bees and not guarded' });
  assert.equal((await app.call('POST', `${account}/mail-address`, { to })).status, 429);
  assert.equal((await app.database.query('select 1 from notice where account = $1', [id])).rowCount, 0);
  assert.equal(taken.length, before, 'no more than twenty a day');
});

test('an altered ledger shows: an entry, a run, a message, an end that was cut off', async () => {
  const { account } = await ready();
  const id = Number(account.split('/').at(-1));
  await app.ran(account, { action: 'trash', where: 'folder = Offers and not guarded' });
  await app.ran(account, { action: 'purge', run: 1 });
  const check = async (query = '') =>
    (await app.call('GET', `${account}/ledger/check${query}`)).body.faults as string[];
  const head = (await app.call('GET', `${account}/ledger/head`)).body;
  assert.deepEqual([head.entries, await check()], [4, []]);
  const altered = async (change: string, undo: string, fault: RegExp, query = '') => {
    await app.database.query(change, [id]);
    const faults = await check(query);
    assert.ok(
      faults.some((said) => fault.test(said)),
      `${change}: ${faults.join(' ')}`,
    );
    await app.database.query(undo, [id]);
    assert.deepEqual(await check(query), []);
  };
  await altered(
    `update ledger_entry set body = replace(body, '"state":"done"', '"state":"cancelled"') where account = $1 and seq = 4`,
    `update ledger_entry set body = replace(body, '"state":"cancelled"', '"state":"done"') where account = $1 and seq = 4`,
    /Entry 4 is not what was written/,
  );
  await altered(
    'update run set done_messages = done_messages + 1 where account = $1 and id = 2',
    'update run set done_messages = done_messages - 1 where account = $1 and id = 2',
    /Run 2 does not say what its entry says: done/,
  );
  await altered(
    'update placement set size = size + 1 where account = $1 and purged_by = 2',
    'update placement set size = size - 1 where account = $1 and purged_by = 2',
    /The messages of run 2 are not those/,
  );
  await altered(
    `update ledger_entry set account = account, seq = seq + 100 where account = $1 and seq = 4`,
    `update ledger_entry set seq = seq - 100 where account = $1 and seq = 104`,
    /Entry 4 is missing|head that was kept/,
    `?entries=${head.entries}&code=${head.code}`,
  );
  // The command says the same, with the head from a file.
  const file = join(temporaryFolder(), 'head.json');
  writeFileSync(file, JSON.stringify(head));
  const { stdout } = await promisify(execFile)(process.execPath, ['--import', 'tsx', 'src/cli/main.ts', 'verify'], {
    cwd: ROOT,
    env: { ...process.env, TAMSEL_DATABASE_URL: app.databaseUrl, TAMSEL_KEY_FILE: app.keyFile },
  });
  assert.match(stdout, /Every entry is as it was written/);
});
