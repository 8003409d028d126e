import assert from 'node:assert/strict';
import { execFile, spawnSync } from 'node:child_process';
import { readdirSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { promisify } from 'node:util';
import { difficultMail } from '../difficult-mail';
import { DOVECOT_PASSWORD, DOVECOT_USER, dovecotClient, startDovecot } from '../dovecot';
import { letter, octetsOf } from '../fast/letters';
import { App, cleanUp, demoScenario, PASSWORD, ROOT, startStandIn, USER, until, withoutPhotographs } from '../harness';

after(cleanUp);

const run = promisify(execFile);

/** Saves files that match, and waits until every one was read back. */
async function saved(app: App, account: string, where: string) {
  const { body } = await app.call('POST', `${account}/bags`, { place: 'here', where });
  let bag = body;
  await until(async () => {
    bag = (await app.call('GET', `${account}/bags/${body.id}`)).body;
    return bag.state === 'done';
  });
  for (const folder of readdirSync(join(app.archive, account.split('/')[2] as string)))
    for (const manifest of ['manifest-sha256.txt', 'tagmanifest-sha256.txt']) {
      const cwd = join(app.archive, account.split('/')[2] as string, folder);
      assert.equal(spawnSync('sha256sum', ['--strict', '--quiet', '-c', manifest], { cwd }).status, 0, folder);
    }
  return bag;
}

/** Takes all files out that match. */
async function stripped(app: App, account: string, where: string) {
  const lot = (await app.call('POST', `${account}/lots`, { fate: 'strip', where })).body;
  const started = (await app.call('POST', `${account}/runs`, { action: 'strip', lots: [lot.id] })).body;
  return { lot, run: await app.finished(`${account}/runs/${started.id}`) };
}

/** What Python says of the messages that lost files: how many, and how many files. */
async function compared(port: number, user: string, password: string, trash: string): Promise<number[]> {
  const script = join(ROOT, 'test/integration/check_rewritten.py');
  const { stdout } = await run('python3', [script, `${port}`, user, password, trash], { maxBuffer: 1e8 }).catch(
    (error) => {
      throw new Error(error.stdout + error.stderr);
    },
  );
  return stdout.trim().split(' ').map(Number);
}

test('difficult mail on Dovecot loses its files exactly, or is left with the reason, and the quota falls by what was said', async () => {
  const dovecot = await startDovecot(60);
  const mail = difficultMail();
  const client = dovecotClient(dovecot.plainPort);
  await client.connect();
  for (const [at, { octets }] of mail.entries())
    await client.append(
      'INBOX',
      octets,
      ['\\Seen', ...(at % 2 ? ['\\Flagged', 'summer'] : [])],
      new Date(Date.UTC(2021, 4, 4, 8, at)),
    );
  const app = await App.start();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  const files = (await app.call('GET', `${account}/files`)).body;
  const bag = await saved(app, account, '');
  assert.deepEqual([bag.checked.files, bag.left], [files.total.files, []]);
  const { run: done } = await stripped(app, account, '');
  const countOf = (reason: string | undefined) => mail.filter(({ left }) => left === reason).length;
  assert.deepEqual(
    done.left.map(({ reason, messages }: { reason: string; messages: number }) => [reason, messages]),
    (['alternative', 'malformed', 'signed'] as const).map((reason) => [reason, countOf(reason)]),
  );
  const rewritten = countOf(undefined);
  assert.equal(done.done.messages, rewritten);
  const [messages] = await compared(dovecot.plainPort, DOVECOT_USER, DOVECOT_PASSWORD, 'INBOX.Trash');
  assert.equal(messages, rewritten);
  // The quota falls by what was said, once the trash is purged.
  const used = async () =>
    ((await client.getQuota('INBOX')) as unknown as { storage: { usage: number } }).storage.usage;
  const before = await used();
  const { body } = await app.call('POST', `${account}/runs`, { action: 'purge', run: done.id });
  await app.finished(`${account}/runs/${body.id}`);
  const fell = before - (await used());
  assert.ok(Math.abs(fell - done.done.bytes) <= 1024, `it fell by ${fell}, not ${done.done.bytes}`);
  await client.logout();
});

/** Files of every kind and size of the small mailbox, of which all together would take minutes. */
const SOME = 'age > 5y and size < 500 kB';

test('every old message of the small mailbox that loses a file is to Python what it was outside these', async () => {
  const host = await startStandIn({ scenario: withoutPhotographs(demoScenario()) });
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  await saved(app, account, SOME);
  const { run: done } = await stripped(app, account, SOME);
  assert.equal(done.state, 'done', JSON.stringify(done.problem));
  assert.ok(done.done.messages > 50, JSON.stringify([done.done, done.left]));
  const [messages] = await compared(host.plainPort, USER, PASSWORD, 'Trash');
  assert.equal(messages, done.added.messages);
});

test('a mailbox on Dovecot that is filled to its quota is brought far under it by taking files out alone', async () => {
  const dovecot = await startDovecot(8);
  const client = dovecotClient(dovecot.plainPort);
  await client.connect();
  const letters: string[] = [];
  // As much as it takes: the last ones are small, so that hardly anything is free.
  for (const octets of [900_000, 60_000, 4_000, 1_500])
    for (;;) {
      const subject = `letter ${letters.length}`;
      const files = [{ name: `picture-${letters.length}.jpg`, octets: octetsOf(octets, letters.length) }];
      const taken = await client.append('INBOX', letter(subject, files), [], new Date()).catch(() => false);
      if (!taken) break;
      letters.push(subject);
    }
  const used = async () =>
    ((await client.getQuota('INBOX')) as unknown as { storage: { usage: number } }).storage.usage;
  const limit = 8 * 1024 * 1024;
  assert.ok((await used()) > 0.99 * limit);
  const app = await App.start();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  await saved(app, account, 'size > 5 kB');
  let { run: strip } = await stripped(app, account, 'size > 5 kB');
  const noRoom = (run: { left: { reason: string; messages: number }[] }) =>
    run.left.find(({ reason }) => reason === 'no-room')?.messages ?? 0;
  for (let times = 0; times < 5; times++) {
    const { body: purge } = await app.call('POST', `${account}/runs`, { action: 'purge', run: strip.id });
    if (purge.id) await app.finished(`${account}/runs/${purge.id}`);
    if (noRoom(strip) === 0) break;
    const { body } = await app.call('POST', `${account}/runs`, { action: 'strip', rest: strip.id });
    strip = await app.finished(`${account}/runs/${body.id}`);
  }
  assert.deepEqual(strip.left, []);
  assert.ok((await used()) < 0.1 * limit, `${await used()} of ${limit}`);
  const lock = await client.getMailboxLock('INBOX');
  const subjects = (await client.fetchAll('1:*', { envelope: true })).map(({ envelope }) => envelope?.subject).sort();
  lock.release();
  assert.deepEqual(subjects, letters.toSorted(), 'every letter is there, once');
  await client.logout();
});
