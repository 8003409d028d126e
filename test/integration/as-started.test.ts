import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { setTimeout as sleep } from 'node:timers/promises';
import { App, cleanUp, startStandIn, tinyScenario, until } from '../harness';

/** What only shows with the flags, the pipes and the supervisor of the command. */
after(cleanUp);

const RECEIVED = 1_700_000_000;
const html = (subject: string, body: string, encoding = '8bit') =>
  Buffer.from(
    `From: seeds@fenwater.example\r\nSubject: ${subject}\r\nMessage-ID: <${subject}@fenwater.example>\r\nMIME-Version: 1.0\r\n` +
      `Content-Type: text/html; charset=utf-8\r\nContent-Transfer-Encoding: ${encoding}\r\n\r\n${body}\r\n`,
  );

/** Subjects, bodies, and what is read of them; undefined where a limit may end it. */
const DOCUMENTS: [subject: string, body: string, read: RegExp | undefined][] = [
  ['entities', '<p>caf&#233;</p>', /café/],
  ['unclosed', `<p>before <b ${'x'.repeat(500_000)}`, undefined],
  ['attributes', `<p ${Array.from({ length: 100_000 }, (_, at) => `a${at}="${at}"`).join(' ')}>after</p>`, undefined],
  ['nested', `${'<table><tr><td>'.repeat(20_000)}deep${'</td></tr></table>'.repeat(20_000)}`, undefined],
  ['large', `<div>${'<p style="color: red">A line of a mailing.</p>'.repeat(220_000)}</div>`, undefined],
  ['last', '<p>still here</p>', /still here/],
];

test('HTML alone is read as text, whatever it is like, and no process ends over it', async () => {
  const tiny = tinyScenario();
  const host = await startStandIn({ scenario: { ...tiny, limit: 4 * tiny.limit } });
  const folder = host.mailbox.folder('INBOX');
  assert.ok(folder);
  for (const [subject, body] of DOCUMENTS) host.mailbox.append(folder, html(subject, body), RECEIVED, []);
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  for (const [subject, , read] of DOCUMENTS) {
    const where = encodeURIComponent(`subject = ${subject} and domain = fenwater.example`);
    const { messages } = (await app.call('GET', `${account}/messages?where=${where}`)).body;
    assert.equal(messages.length, 1, subject);
    const text = await app.call('GET', `${account}/messages/${messages[0].id}/text`);
    if (read) assert.match(JSON.stringify(text.body), read, subject);
    else assert.ok([200, 409].includes(text.status), `${subject}: ${text.status}`);
  }
  const health = await app.call('GET', '/health');
  assert.deepEqual([health.status, health.body.restarts], [200, []]);
});

test('programs that are killed again and again are started again; the others go on, and health says why', async () => {
  const app = await App.start();
  app.expectError(/^The (web|worker) ended: It was ended by SIGKILL/);
  for (let turn = 0; turn < 3; turn++) {
    await until(() => app.workerPid !== undefined);
    await sleep(200);
    process.kill(app.workerPid as number, 'SIGKILL');
    await until(() => app.workerPid === undefined);
    // The web server and the database answer meanwhile.
    assert.ok([200, 503].includes((await app.call('GET', '/health')).status));
  }
  process.kill(app.webPid as number, 'SIGKILL');
  await until(async () => (await app.call('GET', '/health').catch(() => undefined))?.status === 200);
  const { restarts } = (await app.call('GET', '/health')).body;
  assert.deepEqual(
    restarts.map(({ program, why }: { program: string; why: string }) => [program, why]),
    ['worker', 'worker', 'worker', 'web'].map((program) => [program, 'It was ended by SIGKILL.']),
  );
});
