import assert from 'node:assert/strict';
import { execFile, spawnSync } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { promisify } from 'node:util';
import { difficultMail } from '../difficult-mail';
import { DOVECOT_PASSWORD, DOVECOT_USER, dovecotClient, startDovecot } from '../dovecot';
import { App, cleanUp, ROOT, until } from '../harness';

after(cleanUp);

const run = promisify(execFile);

test('a mailbox on Dovecot saved as mbox files is what Python’s imaplib fetches, read by Python’s mailbox; and so it is when all of it was archived, purged, and put back', async () => {
  const dovecot = await startDovecot(60);
  const client = dovecotClient(dovecot.plainPort);
  await client.connect();
  await client.mailboxCreate(['Minutes', '2021']);
  const quoting =
    'Subject: quoting\r\nMessage-ID: <quoting@mail.example>\r\n\r\nFrom here\r\n>From there\r\n>>From afar\r\n';
  const mail = [...difficultMail().map(({ octets }) => octets), Buffer.from(quoting)];
  for (const [at, octets] of mail.entries())
    await client.append(
      at % 3 === 0 ? 'INBOX' : 'INBOX.Minutes.2021',
      octets,
      at % 2 ? ['\\Seen', '\\Flagged', 'summer'] : [],
      new Date(Date.UTC(2021, 4, 4, 8, at)),
    );
  await client.logout();
  const app = await App.start();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  const { body } = await app.call('POST', `${account}/bags`, { place: 'here', what: 'mail', where: '' });
  let bag = body;
  await until(async () => {
    bag = (await app.call('GET', `${account}/bags/${body.id}`)).body;
    return bag.state === 'done';
  });
  assert.deepEqual([bag.checked.files, bag.left], [mail.length, []]);
  const folder = join(app.archive, account.split('/')[2] as string, bag.folder);
  for (const manifest of ['manifest-sha256.txt', 'tagmanifest-sha256.txt'])
    assert.equal(spawnSync('sha256sum', ['--strict', '--quiet', '-c', manifest], { cwd: folder }).status, 0, manifest);
  // A mail reader of Debian lists a line for each message of a file.
  const files = new Map<string, number>();
  for (const line of readFileSync(join(folder, 'data/index.jsonl'), 'utf8').trim().split('\n')) {
    const { path } = JSON.parse(line);
    files.set(path, (files.get(path) ?? 0) + 1);
  }
  for (const [path, count] of files) {
    const listing = ['-n', '-H', '-f', join(folder, 'data', path)];
    const { stdout } = await run('s-nail', listing, { env: { ...process.env, MAILRC: '/dev/null' } });
    assert.equal(stdout.trimEnd().split('\n').length, count, path);
  }
  const script = join(ROOT, 'test/integration/check_mail.py');
  const args = [script, `${dovecot.plainPort}`, DOVECOT_USER, DOVECOT_PASSWORD, folder];
  const equal = async () => {
    const { stdout } = await run('python3', args, { maxBuffer: 1e8, env: { ...process.env, TZ: 'UTC' } }).catch(
      (error) => {
        throw new Error(error.stdout + error.stderr);
      },
    );
    return Number(stdout);
  };
  assert.equal(await equal(), mail.length);
  const done = async (asked: object) => {
    const { id } = (await app.call('POST', `${account}/runs`, asked)).body;
    const path = `${account}/runs/${id}`;
    await until(async () => (await app.call('GET', path)).body.state === 'done');
    return (await app.call('GET', path)).body;
  };
  for (const { id } of (await app.call('GET', `${account}/guards`)).body.guards)
    await app.call('PATCH', `${account}/guards/${id}`, { active: false });
  for (const asked of [
    { action: 'archive', where: '' },
    { action: 'purge', where: '' },
  ])
    assert.equal((await done(asked)).done.messages, mail.length, asked.action);
  const gone = dovecotClient(dovecot.plainPort);
  await gone.connect();
  assert.equal((await gone.status('INBOX', { messages: true })).messages, 0);
  await gone.logout();
  const back = await done({ action: 'put-back', bag: body.id });
  assert.deepEqual([back.done.messages, back.left], [mail.length, []]);
  assert.equal(await equal(), mail.length);
  const checked = () =>
    spawnSync(process.execPath, ['--import', 'tsx', 'src/cli/main.ts', 'archive', 'check', '--user', DOVECOT_USER], {
      cwd: ROOT,
      encoding: 'utf8',
      env: { ...process.env, TAMSEL_DATABASE_URL: app.databaseUrl, TAMSEL_ARCHIVE_DIR: app.archive },
    });
  const good = checked();
  assert.deepEqual([good.status, /Every octet of 1 bag is/.test(good.stdout)], [0, true], good.stdout + good.stderr);
  const path = join(folder, 'data/INBOX.mbox');
  const octets = readFileSync(path);
  octets[octets.length - 3] = (octets.at(-3) as number) ^ 1;
  writeFileSync(path, octets);
  const bad = checked();
  assert.deepEqual([bad.status, /1 DAMAGED/.test(bad.stdout)], [1, true], bad.stdout + bad.stderr);
});
