import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { readFileSync, statSync, writeFileSync } from 'node:fs';
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
  await until(async () => (await app.call('GET', `${account}/bags/${id}`)).body.state === 'done');
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
  // Brought in, each message is read of its octets as Dovecot told of it: author, subject, date, files.
  const size = statSync(archive).size;
  const { body: arriving } = await app.call('POST', `${account}/bring-in`, { name: 'maildir.tar', size });
  const sent = await fetch(`${app.origin}/api${account}/bring-in/${arriving.id}?at=0`, {
    method: 'POST',
    body: readFileSync(archive),
    headers: { cookie: app.cookie, 'content-type': 'application/octet-stream' },
  });
  assert.equal(sent.status, 200);
  await until(async () => (await app.call('GET', `${account}/bags/${arriving.id}`)).body.state === 'done');
  const { messages } = (await app.call('GET', `${account}/messages?scope=archive&limit=500`)).body;
  // Of two hundred parts inside each other we follow fewer than Dovecot does.
  const of = (bag: number) =>
    messages
      .filter((message: any) => message.bag === bag && message.subject !== 'two hundred deep')
      .sort(
        (one: any, other: any) => one.folder.localeCompare(other.folder) || one.received.localeCompare(other.received),
      );
  const said = ({ folder, from, subject, date, received, size: octets, flags, keywords, files }: any) => ({
    ...{ folder, from, subject, date, received, octets, flags, keywords },
    files: files.map(({ name, type }: any) => [name, type]),
  });
  const [ours, theirs] = [of(arriving.id), of(id)];
  assert.equal(theirs.length, before.length - 1);
  assert.deepEqual(ours.map(said), theirs.map(said));
  // Whether the line end before a boundary counts is seen in two ways where an enclosed message ends with one.
  for (const [at, { files }] of ours.entries())
    for (const [number, file] of files.entries())
      assert.ok(Math.abs(file.size - theirs[at].files[number].size) <= 2, `${file.name}: ${file.size}`);
  const another = await startDovecot(60);
  execFileSync('tar', ['-xf', archive, '-C', dirname(another.maildir)]);
  execFileSync('chown', ['-R', `${another.owner.uid}:${another.owner.gid}`, another.maildir]);
  assert.deepEqual(await hosted(another.plainPort), before);
});
