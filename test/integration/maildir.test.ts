import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { after, test } from 'node:test';
import { difficultMail } from '../difficult-mail';
import { DOVECOT_PASSWORD, DOVECOT_USER, dovecotClient, startDovecot } from '../dovecot';
import { App, cleanUp, ROOT, temporaryFolder, until } from '../harness';

after(cleanUp);

/** Every message of every folder: its folder, SHA-256, size, second and flags. */
async function hosted(port: number): Promise<string[]> {
  const client = dovecotClient(port);
  await client.connect();
  const found: string[] = [];
  for (const { path, flags: marks } of await client.list()) {
    if (marks.has('\\Noselect') || marks.has('\\NonExistent')) continue;
    const lock = await client.getMailboxLock(path);
    const asked = { source: true, size: true, internalDate: true, flags: true };
    if (client.mailbox && client.mailbox.exists > 0)
      for await (const { source, size, internalDate, flags } of client.fetch('1:*', asked)) {
        const sum = createHash('sha256')
          .update(source as Buffer)
          .digest('hex');
        const second = Math.floor(new Date(internalDate as Date).getTime() / 1000);
        const shown = [...(flags ?? [])].filter((flag) => flag !== '\\Recent').sort();
        found.push(`${path} ${sum} ${size} ${second} ${shown.join(' ')}`);
      }
    lock.release();
  }
  await client.logout();
  return found.sort();
}

test('a mailbox of Dovecot taken as a Maildir is the same mailbox to Python, and to another Dovecot, with counts, sizes, dates and flags', async () => {
  const dovecot = await startDovecot(60);
  const client = dovecotClient(dovecot.plainPort);
  await client.connect();
  for (const path of [['Minutes', '2021'], ['Entwürfe'], ['Märkte & Feste']]) await client.mailboxCreate(path);
  const folders = ['INBOX', 'INBOX.Minutes.2021', 'INBOX.Entwürfe', 'INBOX.Märkte & Feste'];
  for (const [at, { octets }] of difficultMail().entries())
    await client.append(
      folders[at % folders.length] as string,
      octets,
      [[], ['\\Seen', '\\Flagged', 'summer'], ['\\Answered', '$Forwarded', 'Later'], ['\\Draft', '\\Seen']][at % 5] ??
        [],
      new Date(Date.UTC(2021, 4, 4, 8, at)),
    );
  await client.logout();
  const before = await hosted(dovecot.plainPort);
  assert.equal(before.length, difficultMail().length);
  const app = await App.start();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  const { id } = (await app.call('POST', `${account}/bags`, { place: 'here', what: 'mail', where: '' })).body;
  await until(async () => (await app.call('GET', `${account}/bags/${id}`)).body.state === 'done', 60);
  const target = temporaryFolder();
  const archive = join(target, 'maildir.tar');
  const answer = await fetch(`${app.origin}/api${account}/archive/download?bag=${id}&form=maildir`, {
    headers: { cookie: app.cookie },
  });
  assert.equal(answer.headers.get('content-type'), 'application/x-tar');
  writeFileSync(archive, Buffer.from(await answer.arrayBuffer()));
  execFileSync('tar', ['-xf', archive, '-C', target]);
  const script = join(ROOT, 'test/integration/check_maildir.py');
  const told = JSON.parse(execFileSync('python3', [script, join(target, 'Maildir')], { encoding: 'utf8' }));
  assert.deepEqual(Object.keys(told).sort(), ['', 'Entw&APw-rfe', 'M&AOQ-rkte &- Feste', 'Minutes.2021']);
  const sums = Object.values(told as Record<string, string[]>).flatMap((lines) =>
    lines.map((line) => line.split(' ')[0]),
  );
  assert.deepEqual(sums.sort(), before.map((line) => /[0-9a-f]{64}/.exec(line)?.[0]).sort());
  const another = await startDovecot(60);
  execFileSync('tar', ['-xf', archive, '-C', dirname(another.maildir)]);
  execFileSync('chown', ['-R', `${another.owner.uid}:${another.owner.gid}`, another.maildir]);
  assert.deepEqual(await hosted(another.plainPort), before);
});
