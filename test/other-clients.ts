import assert from 'node:assert/strict';
import { rmSync } from 'node:fs';
import { join } from 'node:path';
import type { ImapFlow } from 'imapflow';
import { DOVECOT_PASSWORD, DOVECOT_USER, type Dovecot, dovecotClient, fillDovecot, startDovecot } from './dovecot';
import { App, demoScenario } from './harness';

/** A message as Dovecot has it, asked by another client. */
interface There {
  folder: string;
  uid: number;
  messageId: string;
  size: number;
  /** INTERNALDATE and flags, which must stand through every move. */
  kept: string;
  deleted: boolean;
}

async function listing(client: ImapFlow): Promise<There[]> {
  const found: There[] = [];
  for (const { path, flags } of await client.list()) {
    if (flags.has('\\Noselect')) continue;
    const box = await client.mailboxOpen(path, { readOnly: true });
    if (box.exists === 0) continue;
    for await (const message of client.fetch('1:*', {
      uid: true,
      size: true,
      flags: true,
      internalDate: true,
      envelope: true,
    })) {
      const named = [...(message.flags ?? [])].filter((flag) => flag !== '\\Deleted' && flag !== '\\Recent').sort();
      found.push({
        folder: path.replace(/^INBOX\./, ''),
        uid: message.uid,
        messageId: message.envelope?.messageId ?? '',
        size: message.size ?? 0,
        kept: `${new Date(message.internalDate as Date).toISOString()} ${named.join(' ')}`,
        deleted: message.flags?.has('\\Deleted') ?? false,
      });
    }
  }
  return found;
}

/** What lies where, as comparable lines. */
const lines = (messages: readonly There[]) =>
  messages.map(({ folder, messageId, size, kept }) => `${folder} ${messageId} ${size} ${kept}`).sort();

async function ready(hide: string[]): Promise<{ dovecot: Dovecot; client: ImapFlow; app: App; account: string }> {
  const dovecot = await startDovecot(80, hide);
  await fillDovecot(dovecot, demoScenario());
  const client = dovecotClient(dovecot.plainPort);
  await client.connect();
  const app = await App.start();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  return { dovecot, client, app, account };
}

/** Asks for a run while nobody works, lets other clients act in between, then has it carried out. */
async function interrupted(app: App, account: string, run: unknown, others: () => Promise<void>): Promise<any> {
  await app.killWorker();
  const started = await app.call('POST', `${account}/runs`, run);
  assert.equal(started.status, 202, JSON.stringify(started.body));
  await others();
  app.startWorker();
  return app.finished(`${account}/runs/${started.body.id}`);
}

const reasons = (run: { left: { reason: string; messages: number }[] }) =>
  Object.fromEntries(run.left.map(({ reason, messages }) => [reason, messages]));

/**
 * Carries runs out on Dovecot while other clients act, and finds out whether they did exactly what was asked.
 *
 * @param hide extensions that it does not offer.
 */
export async function runExactly(hide: string[]): Promise<void> {
  const { dovecot, client, app, account } = await ready(hide);
  const name = hide.join(' ') || 'all extensions';
  const atFirst = await listing(client);
  const offers = atFirst.filter(({ folder }) => folder === 'Offers').sort((a, b) => a.uid - b.uid);
  const [gone, taken, flagged] = [offers.slice(0, 3), offers.slice(3, 5), offers.slice(5, 6)];
  const bystanders = atFirst.filter(({ folder }) => folder === 'INBOX').slice(0, 2);
  const uids = (messages: readonly There[]) => messages.map(({ uid }) => uid).join(',');

  const where = 'folder = Offers or size > 100 kB and not flagged and not folder = INBOX';
  const guarded = (
    await app.call('GET', `${account}/messages?limit=1&where=${encodeURIComponent(`guarded and (${where})`)}`)
  ).body.total.messages;
  // To the trash: what others took is left with its reason, what came later stays, marks of others survive.
  const trash = await interrupted(app, account, { action: 'trash', where }, async () => {
    await client.mailboxOpen('INBOX.Offers');
    await client.messageDelete(uids(gone), { uid: true });
    await client.messageMove(uids(taken), 'INBOX.Photographs', { uid: true });
    await client.messageFlagsAdd(uids(flagged), ['\\Flagged'], { uid: true });
    await client.append(
      'INBOX.Offers',
      'Subject: came later\r\nMessage-ID: <later@ferryline.example>\r\n\r\nhello\r\n',
      ['\\Deleted'],
    );
    await client.mailboxOpen('INBOX');
    await client.messageFlagsAdd(uids(bystanders), ['\\Deleted'], { uid: true });
  });
  assert.equal(trash.state, 'done', `${name}: ${JSON.stringify(trash.problem)}`);
  const kept = guarded + flagged.length;
  assert.deepEqual(reasons(trash), { guarded: kept, moved: taken.length, vanished: gone.length }, name);
  const moved = await listing(client);
  const inTrash = moved.filter(({ folder }) => folder === 'Trash');
  assert.equal(inTrash.length, trash.done.messages, name);
  assert.equal(
    inTrash.reduce((sum, { size }) => sum + size, 0),
    trash.done.bytes,
    name,
  );
  assert.equal(moved.length, atFirst.length - gone.length + 1, 'nothing is in two places or in none');
  assert.ok(
    moved.some(({ messageId, deleted }) => messageId.includes('later@') && deleted),
    'what came later stays as it was marked',
  );
  assert.deepEqual(
    moved.filter(({ folder, deleted }) => folder === 'INBOX' && deleted).map(({ uid }) => uid),
    bystanders.map(({ uid }) => uid),
    name,
  );
  assert.ok(inTrash.every(({ deleted }) => !deleted));

  // Back again, after the trash has got another UIDVALIDITY: by identity, to where each came from, as it was.
  const restore = await interrupted(app, account, { action: 'restore', run: trash.id }, async () => {
    await client.mailboxClose();
    for (const file of ['dovecot-uidlist', 'dovecot.index', 'dovecot.index.log', 'dovecot.index.cache'])
      rmSync(join(dovecot.maildir, '.Trash', file), { force: true });
  });
  assert.deepEqual(
    [restore.state, restore.left, restore.done],
    ['done', [], trash.done],
    `${name}: ${JSON.stringify(restore.problem)}`,
  );
  const restored = await listing(client);
  const untouched = new Set(lines(taken.map((message) => ({ ...message, folder: 'Photographs' }))));
  const expected = lines(
    atFirst.filter((message) => !gone.includes(message) && !taken.includes(message) && !flagged.includes(message)),
  );
  const has = new Set(lines(restored));
  assert.deepEqual(
    expected.filter((line) => !has.has(line)),
    [],
    `${name}: everything is back as it was`,
  );
  assert.ok(
    [...untouched].every((line) => has.has(line)),
    'what others moved is where they moved it',
  );

  // A purge takes what it was asked for and nothing else.
  const rest = await app.ran(account, { action: 'trash', where: 'folder = Photographs and size < 200 kB' });
  const purge = await app.ran(account, { action: 'purge', run: rest.id });
  assert.deepEqual([purge.left, purge.done], [[], rest.done], name);
  assert.equal(purge.before.counted - purge.after.counted, purge.done.bytes);
  assert.equal((await listing(client)).length, restored.length - purge.done.messages, name);
  assert.deepEqual((await app.call('GET', `${account}/ledger/check`)).body.faults, []);
  await client.logout();
  await app.killWorker();
  await app.killWeb();
}
