import assert from 'node:assert/strict';
import { execFile, spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { promisify } from 'node:util';
import { difficultMail } from '../difficult-mail';
import { DOVECOT_PASSWORD, DOVECOT_USER, dovecotClient, startDovecot } from '../dovecot';
import { App, cleanUp, ROOT, temporaryFolder, until } from '../harness';

after(cleanUp);

const sumOf = (octets: string | Buffer) => createHash('sha256').update(octets).digest('hex');
/** As a file has it on many systems, and as mail has it. */
const bare = (octets: Buffer) => octets.toString('latin1').replaceAll('\r\n', '\n').replaceAll('\r', '');
const crlf = (text: string) => text.replaceAll('\n', '\r\n');

test('what Python’s mailbox, tarfile and zipfile wrote is brought in message for message, on the command line too, and Dovecot takes it back', async () => {
  const dovecot = await startDovecot(60);
  const client = dovecotClient(dovecot.plainPort);
  const source = temporaryFolder();
  const target = join(source, 'saved');
  mkdirSync(target);
  // Python parses what it is to write: what it would alter is not tried here.
  const mail = difficultMail()
    .map(({ octets }) => bare(octets))
    .filter(
      (text) => /^[A-Za-z-]+:/.test(text) && text.includes('\n\n') && text.endsWith('\n') && !text.includes('\0'),
    );
  for (let at = 0; at < 12; at++)
    mail.push(
      `From: Person ${at} <p${at}@quorn.example>\nSubject: letter ${at}\n\n${'> and so on\n'.repeat(at)}\n\nFrom here on\n`,
    );
  for (const [at, text] of mail.entries()) writeFileSync(join(source, `${at}.eml`), text, 'latin1');
  const made = spawnSync('python3', [join(ROOT, 'test/integration/make_saved.py'), source, target], {
    encoding: 'utf8',
  });
  assert.equal(made.status, 0, made.stderr);
  const app = await App.start();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  const endsAt = new Date(Date.now() + 86_400_000).toISOString();
  const { body: token } = await app.call('POST', `${account}/tokens`, { name: 'bring in', acts: true, endsAt });
  const env = { ...process.env, TAMSEL_TOKEN: token.token, TAMSEL_URL: app.origin };
  const bring = async (name: string, ...more: string[]) => {
    const args = ['api', 'bring-in', join(target, name), '--wait', '--json', ...more];
    const { stdout } = await promisify(execFile)(join(ROOT, 'tamsel'), args, { env }).catch((error) => {
      throw new Error(name + error.stdout + error.stderr);
    });
    return JSON.parse(stdout);
  };
  const indexOf = (bag: { folder: string }) =>
    readFileSync(join(app.archive, account.split('/')[2] as string, bag.folder, 'data/index.jsonl'), 'utf8')
      .trim()
      .split('\n')
      .map((line) => JSON.parse(line));
  const sums = (texts: readonly string[]) => texts.map((text) => sumOf(Buffer.from(crlf(text), 'latin1'))).sort();
  // Python writes what it parsed, which of two difficult ones is not every octet.
  const maildir = readdirSync(join(target, 'Maildir'), { recursive: true, encoding: 'utf8' })
    .filter((path) => /(^|\/)cur\//.test(path))
    .map((path) => readFileSync(join(target, 'Maildir', path), 'latin1'));
  assert.equal(maildir.length, mail.length);
  for (const [name, format] of [
    ['letters.zip', 'zip'],
    ['maildir.tar', 'tar'],
    ['maildir-gnu.tar.gz', 'tar'],
    ['maildir.zip', 'zip'],
  ] as const) {
    const bag = await bring(name);
    const index = indexOf(bag);
    assert.deepEqual([bag.brought.format, bag.checked.files], [format, mail.length], name);
    assert.deepEqual(index.map(({ sha256 }) => sha256).sort(), sums(name === 'letters.zip' ? mail : maildir), name);
    const folders = new Set(index.map(({ folder }) => folder));
    assert.deepEqual([...folders].sort(), name === 'letters.zip' ? ['letters'] : ['INBOX', 'Work/Plans'], name);
    if (!name.startsWith('maildir')) continue;
    assert.deepEqual(new Set(index.map(({ flags }) => flags.join())), new Set(['\\Answered', '\\Seen,\\Flagged']));
    if (format === 'tar')
      assert.deepEqual(
        index.map(({ received }) => Date.parse(received) / 1000 - 1_620_117_000).sort((a, b) => a - b),
        [...mail.keys()],
      );
  }
  // Python writes `>From ` for `From `, and no other line; and fields for the flags.
  const bag = await bring('letters.mbox', '--folder', 'Old mail');
  assert.deepEqual([bag.brought.format, bag.checked.files], ['mbox', mail.length]);
  const index = indexOf(bag);
  assert.deepEqual(
    new Set(index.map(({ folder, received, flags }) => `${folder} ${received} ${flags}`)),
    new Set(['Old mail 2021-05-04T08:30:00.000Z \\Seen']),
  );
  // What it holds is put back, and Dovecot has it as it was brought in.
  const run = (await app.call('POST', `${account}/runs`, { action: 'put-back', bag: bag.id })).body;
  await until(async () => (await app.call('GET', `${account}/runs/${run.id}`)).body.state === 'done');
  await client.connect();
  const lock = await client.getMailboxLock('INBOX.Old mail');
  const back: string[] = [];
  for await (const { source: octets, internalDate } of client.fetch('1:*', { source: true, internalDate: true })) {
    back.push(sumOf(octets as Buffer));
    assert.equal(new Date(internalDate as Date).toISOString(), '2021-05-04T08:30:00.000Z');
  }
  lock.release();
  await client.logout();
  assert.deepEqual(back.sort(), [...new Set(index.map(({ sha256 }) => sha256))].sort());
});
