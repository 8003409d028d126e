import assert from 'node:assert/strict';
import { readFileSync } from 'node:fs';
import type { Socket } from 'node:net';
import { after, before, test } from 'node:test';
import { setTimeout as sleep } from 'node:timers/promises';
import { type Lie, noFaults } from '../../stand-in/faults';
import { App, cleanUp, hosted, indexed, startStandIn, tinyScenario, until } from '../harness';
import { type Malice, startHostile } from '../hostile-server';

let app: App;

before(async () => {
  app = await App.start({ env: { TAMSEL_COMMAND_SECONDS: '1' } });
});
after(cleanUp);

const answering =
  (to: RegExp, answer: (tag: string, socket: Socket) => void): Malice =>
  (command, tag, socket) => {
    if (!to.test(command)) return undefined;
    answer(tag, socket);
    return true;
  };

/** Sends a piece again and again until nobody listens. */
function endlessly(socket: Socket, piece: string, everyMs: number): void {
  const timer = setInterval(() => socket.write(piece), everyMs);
  socket.on('close', () => clearInterval(timer));
}

const MALICE: [what: string, malice: Malice, kind: string][] = [
  [
    'a set of four thousand million',
    answering(/^UID SEARCH/, (tag, socket) =>
      socket.write(`* ESEARCH (TAG "${tag}") UID ALL 1:4294967295 COUNT 4294967295\r\n${tag} OK\r\n`),
    ),
    'unreadable-answer',
  ],
  [
    'a count that lies',
    answering(/^UID SEARCH/, (tag, socket) =>
      socket.write(`* ESEARCH (TAG "${tag}") UID ALL 1:3 COUNT 5\r\n${tag} OK\r\n`),
    ),
    'unreadable-answer',
  ],
  [
    'UIDs beyond UIDNEXT',
    answering(/^UID SEARCH/, (tag, socket) =>
      socket.write(`* ESEARCH (TAG "${tag}") UID ALL 1:3,900:901 COUNT 5\r\n${tag} OK\r\n`),
    ),
    'unreadable-answer',
  ],
  [
    'UIDs out of order',
    answering(/^UID SEARCH/, (tag, socket) => socket.write(`* SEARCH 5 4 3 2 1\r\n${tag} OK\r\n`)),
    'unreadable-answer',
  ],
  ['no answer at all', answering(/^UID SEARCH/, (tag, socket) => socket.write(`${tag} OK\r\n`)), 'unreadable-answer'],
  [
    'an answer to something else',
    answering(/^UID SEARCH/, (_, socket) => socket.write('X99 OK\r\n')),
    'unreadable-answer',
  ],
  [
    'messages whose size it does not tell',
    answering(/^(UID )?FETCH/, (tag, socket) => socket.write(`* 1 FETCH (UID 1 FLAGS ())\r\n${tag} OK\r\n`)),
    'unreadable-answer',
  ],
  [
    'no UIDVALIDITY',
    answering(/^SELECT/, (tag, socket) => socket.write(`* 5 EXISTS\r\n${tag} OK\r\n`)),
    'unreadable-answer',
  ],
  [
    'a list without the inbox',
    answering(/^LIST/, (tag, socket) => socket.write(`* LIST () "/" Other\r\n${tag} OK\r\n`)),
    'unreadable-answer',
  ],
  [
    'a list that does not end',
    answering(/^LIST/, (_, socket) => {
      let sent = 0;
      const more = () => {
        while (socket.writable && sent < 400_000) if (!socket.write(`* LIST () "/" "f${sent++}"\r\n`)) break;
      };
      socket.on('drain', more);
      more();
    }),
    'unreadable-answer',
  ],
  [
    'a line that does not end',
    answering(/^LIST/, (_, socket) => endlessly(socket, 'x'.repeat(65_536), 2)),
    'timed-out',
  ],
  [
    'a literal that does not end',
    answering(/^LIST/, (_, socket) => {
      socket.write('* LIST () "/" {4000000000}\r\n');
      endlessly(socket, 'x'.repeat(65_536), 2);
    }),
    'timed-out',
  ],
  ['silence', answering(/^LIST/, () => undefined), 'timed-out'],
  ['a tarpit', answering(/^LIST/, (_, socket) => endlessly(socket, '* OK wait a little\r\n', 200)), 'timed-out'],
];

test('a hostile server’s answer is never taken for an empty mailbox: each is told, and costs little', async () => {
  for (const [what, malice, kind] of MALICE) {
    const host = await startHostile(malice);
    app.forgetCookie();
    const account = await app.signIn({ port: host.port });
    let scan: any;
    await until(async () => {
      scan = (await app.call('GET', `${account}/scans/last`)).body;
      return scan.state === 'failed' || scan.problem !== undefined;
    });
    assert.equal(scan.problem.kind, kind, `${what}: ${JSON.stringify(scan)}`);
    assert.notEqual(scan.state, 'done', what);
    await app.call('DELETE', account);
  }
  const peak = Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${app.workerPid}/status`, 'utf8'))?.[1]) / 1024;
  assert.ok(peak < 400, `the worker held ${Math.round(peak)} MB`);
});

test('a mailbox of which nothing is hostile is read, from the same server', async () => {
  const host = await startHostile(() => undefined);
  app.forgetCookie();
  const account = await app.signIn({ port: host.port });
  assert.equal((await app.scanned(account)).state, 'done');
  assert.deepEqual(await indexed(app, account), { INBOX: { messages: 5, bytes: 515 } });
});

test('tarpits hold up nobody else', async () => {
  for (let number = 0; number < 14; number++) {
    const host = await startHostile(answering(/^LIST/, (_, socket) => endlessly(socket, '* OK wait\r\n', 100)));
    app.forgetCookie();
    await app.signIn({ port: host.port });
  }
  const host = await startStandIn({ scenario: tinyScenario() });
  app.forgetCookie();
  const account = await app.signIn({ port: host.plainPort });
  const scan = await app.scanned(account);
  assert.equal(scan.state, 'done');
  const { status, body } = await app.call('GET', '/health');
  assert.deepEqual([status, body.status], [200, 'ok']);
  assert.ok(body.work.running + body.work.waiting > 0);
});

test('lies of one answer are found out by another, and nothing in the index goes', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  app.forgetCookie();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const whole = await indexed(app, account);
  const lies: Lie[] = ['silent search', 'empty search', 'endless set', 'short set', 'empty select', 'short list'];
  for (const kind of lies) {
    host.faults = { ...noFaults(), hide: ['CONDSTORE', 'QRESYNC'], lie: { kind, times: 1_000 } };
    const scan = await app.scanned(account, true);
    assert.deepEqual([scan.state, scan.problem?.kind], ['failed', 'unreadable-answer'], kind);
    assert.deepEqual(await indexed(app, account), whole, kind);
  }
  host.faults = noFaults();
  assert.equal((await app.scanned(account, true)).state, 'done');
  assert.deepEqual(await indexed(app, account), hosted(host));
});

test('a folder that is called empty as its UIDVALIDITY changes is asked again, so that lots go on to mean its messages', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  app.forgetCookie();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const lot = (await app.call('POST', `${account}/lots`, { where: 'folder = Offers and not guarded' })).body;
  assert.ok(lot.messages > 0);
  host.mailbox.changeUidValidity('Offers');
  for (const kind of ['empty select', 'empty search', 'silent search'] as const) {
    host.faults = { ...noFaults(), lie: { kind, times: 1_000 } };
    const scan = await app.scanned(account, true);
    assert.deepEqual([scan.state, scan.problem?.kind], ['failed', 'unreadable-answer'], kind);
  }
  host.faults = noFaults();
  assert.equal((await app.scanned(account, true)).state, 'done');
  const run = await app.ran(account, { action: 'trash', lots: [lot.id] });
  assert.deepEqual([run.left, run.done], [[], { messages: lot.messages, bytes: lot.bytes }]);
});

test('a run without a positive answer about flags is paused, and nothing goes; then it goes on', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  app.forgetCookie();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const before = hosted(host);
  host.faults = { ...noFaults(), lie: { kind: 'half fetch', times: 1 } };
  const started = await app.call('POST', `${account}/runs`, {
    action: 'trash',
    where: 'folder = Offers and not guarded',
  });
  const paused = await app.finished(`${account}/runs/${started.body.id}`);
  assert.deepEqual([paused.state, paused.problem.kind, paused.done.messages], ['paused', 'unreadable-answer', 0]);
  assert.deepEqual(hosted(host), before);
  await app.call('POST', `${account}/runs/${started.body.id}/resume`);
  const ended = await app.finished(`${account}/runs/${started.body.id}`);
  assert.deepEqual([ended.state, ended.done], ['done', ended.asked]);
});

test('servers of other dialects: names in UTF-8 where that is enabled, refusals in words, no UIDNEXT', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  host.faults = { ...noFaults(), utf8: true, noUidNext: true, wordsOnly: true, hide: ['MOVE', 'UIDPLUS'] };
  app.forgetCookie();
  const account = await app.signIn({ port: host.plainPort });
  assert.equal((await app.scanned(account)).state, 'done');
  assert.deepEqual(await indexed(app, account), hosted(host));
  const run = await app.ran(account, { action: 'trash', where: 'folder = "Märkte & Feste" and not guarded' });
  assert.deepEqual([run.state, run.done], ['done', run.asked]);
  const back = await app.ran(account, { action: 'restore', run: run.id });
  assert.deepEqual(back.done, run.done);
  await sleep(10);
  const folder = host.mailbox.folder('Archive') as NonNullable<ReturnType<typeof host.mailbox.folder>>;
  const ballast = Buffer.alloc(Math.max(0, host.mailbox.limit - host.mailbox.used() - 60), 'x');
  host.mailbox.append(folder, Buffer.concat([Buffer.from('Subject: ballast\r\n\r\n'), ballast]), 1_700_000_000, []);
  const full = await app.ran(account, { action: 'trash', where: 'folder = "Märkte & Feste" and not guarded' });
  assert.deepEqual(
    [...full.left.map(({ reason }: { reason: string }) => reason), full.problem.kind],
    ['no-room', 'no-room'],
  );
  assert.match(full.problem.detail, /The server said: “.+”/, 'nobody is left to guess why');
});
