import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { after, test } from 'node:test';
import { App, cleanUp, ROOT, until } from '../harness';
import { startCyrus } from './cyrus';
import type { MailHost } from './mail-host';

/**
 * Proxy users of Debian's Cyrus as operators: what they may is what Cyrus says, each time, and messages, octets and quota are what
 * Python's imaplib reads as the owner.
 */
const PROXY = 'warden';
const OTHERS = ['plots', 'hut', 'bees'];

function python(host: MailHost, script: string, user: string, ...args: string[]): string {
  return execFileSync('python3', [`${ROOT}/test/servers/${script}`, `${host.port}`, user, host.password, ...args], {
    encoding: 'utf8',
    env: { ...process.env, PYTHONHASHSEED: '1' },
  });
}

after(cleanUp);

test('proxy users of Cyrus see exactly what it lets them', async () => {
  const host = await startCyrus([PROXY], [...OTHERS, 'stranger']);
  for (const [index, user] of OTHERS.entries()) {
    python(host, 'fill.py', user, 'INBOX', `${60 * (index + 1)}`);
    python(host, 'commands.py', user, 'CREATE Trash (USE (\\Trash))');
  }
  const app = await App.start();
  const at = { host: '127.0.0.1', port: host.port, security: 'none', password: host.password };
  const refused = await app.call('POST', '/operators', { ...at, user: 'stranger', mailbox: OTHERS[0] });
  assert.equal(refused.status, 422, 'who is no proxy user may nothing');
  const signedIn = await app.call('POST', '/operators', { ...at, user: PROXY, mailbox: OTHERS[0] });
  assert.equal(signedIn.status, 201, JSON.stringify(signedIn.body));
  app.keepCookies(signedIn.headers);
  const base = `/operators/${signedIn.body.operator.id}`;
  const sheet = ['address', ...OTHERS, 'nobody'].join('\n');
  assert.equal((await app.call('POST', `${base}/sheet`, { sheet, apply: true })).body.added, OTHERS.length + 1);
  const mailboxes = async () => (await app.call('GET', `${base}/mailboxes`)).body;
  await until(async () => (await mailboxes()).measuring === 0);
  const measured = (await mailboxes()).mailboxes;
  for (const user of OTHERS) {
    const own = JSON.parse(python(host, 'folder_figures.py', user, 'INBOX'));
    const { bytes, messages } = measured.find((each: { user: string }) => each.user === user).measured;
    assert.deepEqual([messages.used, bytes.limit], [own.messages, 1_000_000 * 1024]);
    assert.ok(Math.abs(bytes.used - own.bytes) < 1024, `${bytes.used} octets for ${own.bytes}`);
  }
  // Cyrus lets a proxy user be anybody, and shows who has no mailbox no folder.
  const none = measured.find((each: { user: string }) => each.user === 'nobody');
  assert.deepEqual([none.problem?.kind, none.measured], ['unreadable-answer', null]);

  const ids = measured.flatMap(({ id, user }: { id: number; user: string }) => (OTHERS.includes(user) ? [id] : []));
  const made = await app.call('POST', `${base}/rounds`, {
    kind: 'standing',
    reason: 'All keep what was read for a month.',
    mailboxes: ids,
    terms: {
      label: 'Old mail',
      where: 'size > 1 kB',
      rhythm: { unit: 'month', every: 1, day: 1, from: '2026-01-01', at: '03:00' },
    },
  });
  assert.equal(made.status, 201, JSON.stringify(made.body));
  const round = async () => (await app.call('GET', `${base}/rounds/${made.body.round.id}`)).body;
  await until(async () => (await round()).round.state !== 'trying');
  const tried = (await round()).mailboxes;
  assert.ok(
    tried.every(({ state }: { state: string }) => state === 'ready'),
    JSON.stringify(tried),
  );
});
