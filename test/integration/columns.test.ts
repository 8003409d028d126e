import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { fromArrow } from '../../src/core/columns/arrow';
import type { Columns } from '../../src/core/columns/columns';
import { applyDifference } from '../../src/core/columns/difference';
import { App, cleanUp, startStandIn, tinyScenario } from '../harness';

after(cleanUp);

/** Each message with what the columns say of it, by id. */
function said(columns: Columns): Map<number, string> {
  const { dictionaries: d } = columns;
  return new Map(
    Array.from(columns.id, (id, row) => [
      id,
      [
        columns.size[row],
        columns.received[row],
        columns.date[row],
        columns.flags[row],
        columns.category[row],
        columns.thread[row],
        columns.attached[row],
        d.author.address[columns.author[row] as number],
        d.folder[columns.folder[row] as number],
        d.list[columns.list[row] as number],
      ].join(' '),
    ]),
  );
}

test('what changed since a state makes of its columns the new ones: runs, flags, corrections, mail that comes and goes', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const ask = (query = '', headers: Record<string, string> = {}) =>
    fetch(`${app.origin}/api${account}/columns${query}`, { headers: { cookie: app.cookie, ...headers } });
  const read = async (answer: Response) => ({
    tag: (answer.headers.get('etag') ?? '').replaceAll('"', ''),
    ...fromArrow(new Uint8Array(await answer.arrayBuffer())),
  });

  const first = await read(await ask());
  assert.equal(first.columns.length, host.mailbox.messageCount());
  assert.equal((await ask('', { 'if-none-match': `"${first.tag}"` })).status, 304);
  const same = await read(await ask(`?since=${first.tag}`));
  assert.deepEqual([same.note.difference, same.columns.length, same.note.gone], [true, 0, []]);

  // Messages and octets agree with the API's own, by sender and by folder.
  const { mail, trash } = (await app.call('GET', `${account}/level`)).body;
  assert.equal(
    first.columns.size.reduce((sum, size) => sum + size, 0),
    mail.bytes + trash.bytes,
  );

  const lot = (await app.call('POST', `${account}/lots`, { where: 'domain = fenwater.example' })).body;
  await app.ran(account, { action: 'trash', lots: [lot.id] });
  await app.ran(account, { action: 'purge', where: 'size > 20 kB' });
  const sender = { by: 'address', key: 'station@wx.example', category: 'invitations' };
  const senders = (await app.call('GET', `${account}/senders?order=messages&limit=1`)).body.senders;
  assert.equal((await app.call('POST', `${account}/categories`, { ...sender, key: senders[0].key })).status, 204);
  const inbox = host.mailbox.folder('INBOX');
  assert.ok(inbox);
  host.mailbox.setFlags(
    inbox,
    inbox.messages.slice(0, 5).map((placed) => ({ placed, flags: new Set([...placed.flags, 'flagged']) })),
  );
  host.mailbox.append(
    inbox,
    Buffer.from('From: new@holder.example\r\nSubject: new\r\n\r\nHello\r\n'),
    1_790_000_000,
    [],
  );
  await app.scanned(account, true);

  const difference = await read(await ask(`?since=${first.tag}`));
  const now = await read(await ask());
  assert.ok(difference.note.difference && difference.note.gone.length > 0);
  assert.ok(difference.columns.length < now.columns.length / 2, 'a difference is not everything again');
  const merged = applyDifference(first.columns, difference.columns, difference.note.gone);
  assert.deepEqual(said(merged), said(now.columns));
  const corrected = (await app.call('GET', `${account}/categories`)).body;
  assert.equal(
    corrected.categories.find(({ category }: { category: string }) => category === 'invitations').messages >=
      senders[0].messages,
    true,
  );

  // Words are found where a run took their messages, before any scan looks there again.
  const words = encodeURIComponent('text ~ hedge');
  const found = (await app.call('GET', `${account}/messages?limit=1&where=${words}%20and%20not%20guarded`)).body.total
    .messages;
  const inTrash = async () =>
    (await app.call('GET', `${account}/messages?limit=1&scope=trash&where=${words}`)).body.total.messages;
  const before = await inTrash();
  await app.ran(account, { action: 'trash', where: 'text ~ hedge' });
  assert.ok(found > 0);
  assert.equal(await inTrash(), before + found);

  // With another folder every path may be another.
  host.mailbox.create('A new folder');
  await app.scanned(account, true);
  assert.equal((await read(await ask(`?since=${now.tag}`))).note.difference, false);
  const wrong = { ...sender, category: 'misc' };
  assert.equal((await app.call('POST', `${account}/categories`, wrong)).status, 422);
  await app.killWorker();
});
