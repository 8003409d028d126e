import assert from 'node:assert/strict';
import { execFile } from 'node:child_process';
import { after, test } from 'node:test';
import { promisify } from 'node:util';
import { DOVECOT_PASSWORD, DOVECOT_USER, type Dovecot, fillDovecot, startDovecot } from '../dovecot';
import { App, cleanUp, demoScenario, tinyScenario } from '../harness';

const run = promisify(execFile);

after(cleanUp);

/** What Dovecot itself says, asked through Python's imaplib: messages and octets of each folder, and the quota. */
async function said(
  dovecot: Dovecot,
): Promise<{ folders: Record<string, { messages: number; bytes: number }>; used: number; limit: number }> {
  const script = `
import imaplib, json, re
s = imaplib.IMAP4('127.0.0.1', ${dovecot.plainPort}); s.login('${DOVECOT_USER}', '${DOVECOT_PASSWORD}')
folders = {}
for line in s.list()[1]:
    name = re.search(rb' "\\." "?([^"]*)"?$', line).group(1).decode()
    if b'Noselect' in line:
        continue
    status = s.status('"' + name + '"', '(MESSAGES SIZE)')[1][0]
    folders[name] = {'messages': int(re.search(rb'MESSAGES (\\d+)', status).group(1)), 'bytes': int(re.search(rb'SIZE (\\d+)', status).group(1))}
used, limit = re.search(rb'STORAGE (\\d+) (\\d+)', s.getquotaroot('INBOX')[1][1][0]).groups()
print(json.dumps({'folders': folders, 'used': int(used) * 1024, 'limit': int(limit) * 1024}))`;
  return JSON.parse((await run('python3', ['-c', script])).stdout);
}

/** The senders of most messages, as Dovecot's SEARCH FROM (RFC 9051 §6.4.4) counts them over all folders. */
async function sendersAgree(app: App, account: string, dovecot: Dovecot): Promise<void> {
  const { senders } = (await app.call('GET', `${account}/senders?by=address&order=messages&limit=12&scope=all`)).body;
  const ours = Object.fromEntries(
    senders.map(({ key, messages }: { key: string; messages: number }) => [key, messages]),
  );
  const script = `
import imaplib, json, re, sys
s = imaplib.IMAP4('127.0.0.1', ${dovecot.plainPort}); s.login('${DOVECOT_USER}', '${DOVECOT_PASSWORD}')
counts = dict.fromkeys(json.loads(sys.argv[1]), 0)
for line in s.list()[1]:
    if b'Noselect' in line:
        continue
    s.select('"' + re.search(rb' "\\." "?([^"]*)"?$', line).group(1).decode() + '"', readonly=True)
    for address in counts:
        counts[address] += len(s.search(None, 'FROM', '"' + address + '"')[1][0].split())
print(json.dumps(counts))`;
  const { stdout } = await run('python3', ['-c', script, JSON.stringify(Object.keys(ours))]);
  assert.deepEqual(ours, JSON.parse(stdout));
}

async function agrees(app: App, account: string, dovecot: Dovecot): Promise<void> {
  const { folders, used, limit } = await said(dovecot);
  const { body } = await app.call('GET', `${account}/level`);
  const names: Record<string, string> = { 'INBOX.M&AOQ-rkte &- Feste': 'Märkte & Feste' };
  const expected = Object.fromEntries(
    Object.entries(folders).map(([name, amount]) => [
      names[name] ?? name.replace(/^INBOX\./, '').replaceAll('.', '/'),
      amount,
    ]),
  );
  const ours = Object.fromEntries(
    body.folders.map(({ path, messages, bytes }: { path: string; messages: number; bytes: number }) => [
      path,
      { messages, bytes },
    ]),
  );
  assert.deepEqual(ours, expected);
  assert.deepEqual([body.used, body.limit], [used, limit]);
}

test('the same job passes against Dovecot, plain and TLS: counts, folder sizes and quota are what Dovecot says', async () => {
  for (const security of ['none', 'tls', 'starttls'] as const) {
    const dovecot = await startDovecot(60);
    // What TLS changes shows on fewer messages.
    const brought = await fillDovecot(dovecot, security === 'none' ? demoScenario() : tinyScenario());
    const app = await App.start({ authority: dovecot.authority });
    const account = await app.signIn({
      host: security === 'none' ? '127.0.0.1' : 'localhost',
      port: security === 'tls' ? dovecot.tlsPort : dovecot.plainPort,
      security,
      user: DOVECOT_USER,
      password: DOVECOT_PASSWORD,
    });
    const scan = await app.scanned(account);
    assert.deepEqual([scan.state, scan.messages.done], ['done', brought]);
    await agrees(app, account, dovecot);
    if (security === 'none') await sendersAgree(app, account, dovecot);
    const lots = [];
    for (const where of ['size > 100 kB', 'domain = fenwater.example'])
      lots.push((await app.call('POST', `${account}/lots`, { where })).body.id);
    const trash = await app.ran(account, { action: 'trash', lots });
    assert.deepEqual([trash.state, trash.left, trash.done], ['done', [], trash.asked]);
    const restore = await app.ran(account, { action: 'restore', where: 'from ~ fenwater' });
    assert.deepEqual(restore.done, restore.asked);
    const purge = await app.ran(account, { action: 'purge', where: '' });
    // What is flagged stays in the trash, by a guard.
    assert.equal(purge.asked.bytes - purge.done.bytes, purge.left[0]?.bytes ?? 0);
    assert.equal(purge.before.counted - purge.after.counted, purge.done.bytes);
    assert.ok(
      Math.abs(purge.before.used - purge.after.used - purge.done.bytes) <= 1024,
      'the quota follows within its unit',
    );
    await app.scanned(account, true);
    await agrees(app, account, dovecot);
    await app.killWorker();
  }
});
