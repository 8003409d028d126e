import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { setTimeout as sleep } from 'node:timers/promises';
import { dovecotClient } from '../dovecot';
import { letter, octetsOf } from '../fast/letters';
import { App, cleanUp, ROOT, temporaryFolder, until } from '../harness';
import { startCourier } from './courier';
import { startCyrus } from './cyrus';
import { startDovecotHost } from './dovecot-host';
import { DOMAIN, type MailHost } from './mail-host';

/**
 * The whole job on Debian's Dovecot, Cyrus and Courier, held against Python's imaplib, beside another client (imapflow by itself):
 * nobody here wrote these servers, and each reads the standards in its own way.
 */
after(cleanUp);

/** Folders as a user reads them, and on the wire (RFC 3501 §5.1.3): names that an encoding can spoil. */
const FOLDERS = [
  ['R&D', 'R&-D'],
  ['日本語', '&ZeVnLIqe-'],
  ['Two words (2)', 'Two words (2)'],
] as const;
const EACH = 130;
/** Letters with a picture each, that lose it. */
const LETTERS = 100;

function python(host: MailHost, script: string, ...args: string[]): string {
  const words = [join(ROOT, 'test/servers', script), `${host.port}`, host.user, host.password, ...args];
  return execFileSync('python3', words, { encoding: 'utf8', env: { ...process.env, PYTHONHASHSEED: '1' } });
}

/** Messages and octets of a folder, as Python is told of them. */
function told(host: MailHost, wire: string): { messages: number; bytes: number } {
  const { messages, bytes } = JSON.parse(python(host, 'folder_figures.py', onWire(host, wire)));
  return { messages, bytes };
}

const onWire = ({ prefix, delimiter }: MailHost, name: string) =>
  name === 'INBOX' ? name : prefix + name.replaceAll('/', delimiter);

/** Another program's connection. */
async function otherClient(host: MailHost) {
  const client = dovecotClient(host.port, host.user);
  client.on('error', () => undefined);
  await client.connect();
  return client;
}

/** An instance before a server, signed in; the trash exists, and all is scanned. */
async function opened(host: MailHost): Promise<{ app: App; account: string }> {
  const servers = join(temporaryFolder(), 'servers.json');
  const sieve = { host: '127.0.0.1', port: host.sievePort, security: 'none' };
  // Only where the rules are is looked up in it: one signs in at the port in plain text.
  const at = { host: '127.0.0.1', port: host.port, security: 'tls' };
  writeFileSync(servers, JSON.stringify({ [DOMAIN]: { ...at, ...(host.sievePort ? { sieve } : {}) } }));
  const app = await App.start({ env: { TAMSEL_SERVERS_FILE: servers, TAMSEL_LEASE_SECONDS: '4' } });
  const account = await app.signIn({ port: host.port, user: host.user, password: host.password });
  const scanned = await app.scanned(account);
  assert.equal(scanned.state, 'done', JSON.stringify(scanned));
  const { folders } = (await app.call('GET', `${account}/level`)).body;
  if (!folders.some(({ role }: { role: string }) => role === 'trash'))
    assert.equal((await app.call('POST', `${account}/trash`, {})).status, 201);
  return { app, account };
}

async function total(app: App, account: string, where: string): Promise<number> {
  const query = `limit=1&scope=all&where=${encodeURIComponent(where)}`;
  return (await app.call('GET', `${account}/messages?${query}`)).body.total.messages;
}

/** Saves what matches in a bag, and waits until it was read back. */
async function saved(app: App, account: string, asked: object): Promise<number> {
  const started = await app.call('POST', `${account}/bags`, { place: 'here', ...asked });
  assert.equal(started.status, 202, JSON.stringify(started.body));
  const bag = await app.finished(`${account}/bags/${started.body.id}`);
  assert.deepEqual([bag.state, bag.left], ['done', []]);
  return started.body.id;
}

const HOSTS = { Dovecot: startDovecotHost, Cyrus: startCyrus, Courier: startCourier };

for (const [name, start] of Object.entries(HOSTS)) {
  test(`${name}: folders are measured, moved to the trash, brought back, also where the folder went, and purged`, async () => {
    const host = await start();
    for (const [, wire] of FOLDERS) python(host, 'fill.py', onWire(host, wire), `${EACH}`);
    const { app, account } = await opened(host);
    const indexed = async (path: string) => {
      const { folders } = (await app.call('GET', `${account}/level`)).body;
      const { messages, bytes } = folders.find((each: { path: string }) => each.path === path);
      return { messages, bytes };
    };
    const senders = (await app.call('GET', `${account}/senders?by=address&order=bytes`)).body;
    assert.equal(senders.total, 7, 'as many as fill.py has');
    assert.equal(await total(app, account, 'from ~ "forum3@"'), FOLDERS.length * 19, 'every seventh of 130');
    for (const [path, wire] of FOLDERS) {
      assert.deepEqual(await indexed(path), told(host, wire), path);
      const trashed = await app.ran(account, { action: 'trash', folder: path });
      assert.deepEqual([trashed.state, trashed.done.messages, trashed.left], ['done', EACH, []]);
      assert.deepEqual([told(host, wire).messages, told(host, 'Trash').messages], [0, EACH]);
      python(host, 'commands.py', `DELETE "${onWire(host, wire)}"`);
      const back = await app.ran(account, { action: 'restore', run: trashed.id });
      assert.deepEqual([back.state, back.done.messages], ['done', EACH], JSON.stringify(back));
      assert.deepEqual([told(host, wire).messages, told(host, 'Trash').messages], [EACH, 0], 'it is made again');
    }
    const lot = await app.call('POST', `${account}/lots`, { where: 'from ~ "forum3@"', label: 'One sender' });
    assert.equal(lot.status, 201, JSON.stringify(lot.body));
    const marked = await app.ran(account, { action: 'trash', lots: [lot.body.id] });
    assert.equal(marked.done.messages, lot.body.messages);
    assert.deepEqual(await indexed('Trash'), told(host, 'Trash'));
    const purged = await app.ran(account, { action: 'purge', run: marked.id });
    assert.deepEqual([purged.state, purged.done], ['done', marked.done]);
    assert.equal(told(host, 'Trash').messages, 0);
    const left = FOLDERS.map(([, wire]) => told(host, wire).messages).reduce((sum, count) => sum + count);
    assert.equal(left, FOLDERS.length * EACH - marked.done.messages, 'and nothing else went');
  });

  test(`${name}: files are saved and taken out beside a client that flags at random, which loses no flag; then archived and put back`, async () => {
    const host = await start();
    const other = await otherClient(host);
    const subjects = Array.from({ length: LETTERS }, (_, index) => `picture ${index}`);
    for (const [index, subject] of subjects.entries()) {
      const file = { name: `open-day-${index}.jpg`, octets: octetsOf(3_000 + index, index + 1) };
      await other.append('INBOX', letter(subject, [file]), [], new Date(Date.UTC(2021, 4, 4, 8, index)));
    }
    const { app, account } = await opened(host);
    await saved(app, account, { where: 'kind = picture' });
    const lot = await app.call('POST', `${account}/lots`, { fate: 'strip', where: 'kind = picture' });
    const { body } = await app.call('POST', `${account}/runs`, { action: 'strip', lots: [lot.body.id] });
    // While the run is under way each original that is still there gets a flag and a keyword, in an order of its own.
    await other.mailboxOpen('INBOX');
    const flagged = new Set<number>();
    const isDone = async () => (await app.call('GET', `${account}/runs/${body.id}`)).body.state === 'done';
    for (let turn = 0; flagged.size < LETTERS && !(await isDone()); turn++)
      for (let step = 0; step < 8; step++) {
        const uid = 1 + (((turn * 8 + step) * 37) % LETTERS);
        if (flagged.has(uid)) continue;
        const there = await other.fetchOne(`${uid}`, { uid: true }, { uid: true });
        if (there && (await other.messageFlagsAdd(`${uid}`, ['\\Flagged', 'kept'], { uid: true }))) flagged.add(uid);
      }
    const run = await app.finished(`${account}/runs/${body.id}`);
    assert.deepEqual([run.state, run.done.messages, run.left], ['done', LETTERS, []], JSON.stringify(run));
    // Of each message whose original was flagged before it went the replacement is; some were flagged in the moment of it.
    await other.noop();
    const bearing = new Set<string>();
    const without: string[] = [];
    for await (const { envelope, flags } of other.fetch('1:*', { envelope: true, flags: true })) {
      without.push(envelope?.subject ?? '');
      if (flags?.has('\\Flagged') && flags.has('kept')) bearing.add(envelope?.subject ?? '');
    }
    assert.deepEqual(without.sort(), [...subjects].sort());
    await other.mailboxOpen(onWire(host, 'Trash'));
    const lost: string[] = [];
    for await (const { envelope, flags } of other.fetch('1:*', { envelope: true, flags: true }))
      if ((flags?.has('\\Flagged') || flags?.has('kept')) && !bearing.has(envelope?.subject ?? ''))
        lost.push(envelope?.subject ?? '');
    assert.deepEqual(lost, [], 'what the other client set is on what stays');
    assert.ok(flagged.size > 0, 'it came to flag some');
    await other.logout();
    await app.scanned(account, true);
    // Guards protect what is flagged now; the archive is for all.
    for (const { id } of (await app.call('GET', `${account}/guards`)).body.guards)
      await app.call('PATCH', `${account}/guards/${id}`, { active: false });
    const archived = await app.ran(account, { action: 'archive', where: 'folder = INBOX' });
    assert.deepEqual([archived.state, archived.done.messages], ['done', LETTERS], JSON.stringify(archived));
    assert.equal((await app.ran(account, { action: 'purge', where: '' })).state, 'done');
    const { bags } = (await app.call('GET', `${account}/bags`)).body;
    const bag = bags.find(({ run: of }: { run: { id: number } | null }) => of?.id === archived.id);
    const back = await app.ran(account, { action: 'put-back', bag: bag.id });
    assert.deepEqual([back.state, back.done.messages, back.left], ['done', LETTERS, []]);
    assert.equal(told(host, 'INBOX').messages, LETTERS);
  });

  test(`${name}: a worker is killed and the server stopped in mid-command: the run ends as though they were not`, async () => {
    const host = await start();
    python(host, 'fill.py', onWire(host, 'Plots'), '400');
    const { app, account } = await opened(host);
    const { body } = await app.call('POST', `${account}/runs`, { action: 'trash', folder: 'Plots' });
    await until(async () => told(host, 'Trash').messages > 0);
    await app.killWorker();
    host.pause(true);
    app.startWorker();
    await sleep(1_000);
    host.pause(false);
    const run = await app.finished(`${account}/runs/${body.id}`);
    assert.deepEqual([run.state, run.done.messages, run.left], ['done', 400, []], JSON.stringify(run));
    assert.equal(told(host, 'Trash').messages, 400);
    const back = await app.ran(account, { action: 'restore', run: run.id });
    assert.equal(back.done.messages, 400);
  });
}

for (const [name, start] of Object.entries({ Dovecot: startDovecotHost, Cyrus: startCyrus }))
  test(`${name}: mail that it delivers lands in the folder of a rule, whatever letters its name has`, async () => {
    const host = await start();
    const other = await otherClient(host);
    // Letters beyond ASCII, a blank, a level below, and the sign that modified UTF-7 begins with.
    const paths = ['Größe/Ä b', 'R&D', 'Plain'];
    for (const path of ['Größe', ...paths])
      await other.mailboxCreate(host.prefix + path.replaceAll('/', host.delimiter));
    const { app, account } = await opened(host);
    let mark = (await app.call('GET', `${account}/rules`)).body.mark;
    for (const [index, folder] of paths.entries()) {
      const rule = { label: folder, where: `subject ~ "rule ${index}"`, folder, expect: mark };
      const added = await app.call('POST', `${account}/rules`, rule);
      assert.equal(added.status, 201, JSON.stringify(added.body));
      mark = added.body.mark;
    }
    for (const index of [...paths.keys(), paths.length]) {
      const input = `From: a@outside.example\r\nSubject: rule ${index}\r\nMessage-ID: <${index}@outside.example>\r\n\r\nIn.\r\n`;
      const words = [join(ROOT, 'test/servers/deliver.py'), `${host.lmtpPort}`, host.user];
      execFileSync('python3', words, { input });
    }
    await app.scanned(account, true);
    for (const [index, folder] of paths.entries())
      assert.equal(await total(app, account, `folder = "${folder}" and subject ~ "rule ${index}"`), 1, folder);
    assert.equal(await total(app, account, `folder = INBOX and subject ~ "rule ${paths.length}"`), 1);
    // Another client deletes a folder: the next change of rules says so before anything runs by it, and the list tells it.
    await other.mailboxDelete(host.prefix + 'R&D');
    const rule = { label: 'late', where: 'subject ~ "late"', folder: 'R&D', expect: mark };
    const refused = await app.call('POST', `${account}/rules`, rule);
    assert.deepEqual([refused.status, refused.body.type], [409, '/problems/no-folder'], JSON.stringify(refused.body));
    await app.scanned(account, true);
    const { rules } = (await app.call('GET', `${account}/rules`)).body;
    assert.deepEqual(
      rules.map(({ isFolderGone }: { isFolderGone: boolean }) => isFolderGone),
      [false, true, false],
    );
    await other.logout();
  });
