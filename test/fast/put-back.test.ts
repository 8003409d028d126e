import assert from 'node:assert/strict';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { MailProblem } from '../../src/mail/problem';
import type { Run } from '../../src/store/runs/runs';
import { cleanUp } from '../harness';
import { difficultServer, folderOf, message, octetsHosted, readByIndex, sumOf } from './bagged';
import { FakeServer } from './fake-server';
import { given } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

/** What lies outside the trash, as each message can be told: folder, octets, date, flags and keywords. */
function hosted(server: FakeServer): string[] {
  return server.folderList
    .filter(({ role }) => role !== 'trash')
    .flatMap(({ path, messages }) =>
      messages.map(({ octets, received, flags, keywords }) =>
        [path, sumOf(octets as Buffer), received.toISOString(), flags, [...keywords].sort().join(' ')].join(' '),
      ),
    )
    .sort();
}

/** Everything archived, and purged from the trash; and what it was before. */
async function archivedAndPurged(server: FakeServer): Promise<{ mailbox: Mailbox; before: string[] }> {
  const mailbox = await Mailbox.open(server);
  const before = hosted(server);
  await mailbox.run({ action: 'archive', where: '' });
  // The words of the bag.
  await mailbox.work();
  await mailbox.run({ action: 'purge', where: '' });
  assert.deepEqual(octetsHosted(server), []);
  return { mailbox, before };
}

function smallServer(): FakeServer {
  const server = new FakeServer();
  server.add('INBOX', 'inbox', [
    given(message('one', 'From one\r\n'), { flags: 1, keywords: ['$Forwarded'] }),
    given(message('two', 'two\r\n')),
  ]);
  server.add('Minutes', null, [given(message('three', 'three\r\n'))]);
  server.add('Trash', 'trash', []);
  return server;
}

const putBack = (mailbox: Mailbox, body: object): Promise<Run> => mailbox.run({ action: 'put-back', ...body });
const reasons = ({ left }: Run) => left.map(({ reason, messages }) => [reason, messages]);

test('all of a bag is put back into its folders with its date, flags and keywords, and the index knows it', async () => {
  const { mailbox, before } = await archivedAndPurged(difficultServer());
  const run = await putBack(mailbox, { bag: 1 });
  assert.deepEqual(
    [run.state, run.done.messages, run.left, run.undo.messages],
    ['done', before.length, [], before.length],
  );
  assert.deepEqual(hosted(mailbox.server), before);
  assert.deepEqual(await mailbox.indexed(), mailbox.hosted);
  const check = await mailbox.call('checkLedger');
  assert.deepEqual(check.faults, []);
});

test('it is undone: what was put back goes to the trash, flagged or not', async () => {
  const server = smallServer();
  for (const one of server.folder('INBOX').messages) one.flags = 2;
  const { mailbox, before } = await archivedAndPurged(server);
  const { id } = await putBack(mailbox, { where: '' });
  const undone = await mailbox.run({ action: 'trash', run: id });
  assert.deepEqual([undone.done.messages, hosted(server).length], [before.length, 0]);
  assert.equal((await mailbox.call('getRun', undefined, { run: `${id}` })).undo.messages, 0);
  const again = await putBack(mailbox, { where: '' });
  assert.deepEqual([again.done.messages, hosted(server)], [before.length, before]);
});

test('what is there already is not doubled, and what criteria find goes into another folder', async () => {
  const { mailbox, before } = await archivedAndPurged(smallServer());
  const { server } = mailbox;
  const some = await putBack(mailbox, { where: 'text ~ three or subject = two', to: 'Minutes' });
  assert.deepEqual([some.done.messages, hosted(server).map((one) => one.split(' ')[0])], [2, ['Minutes', 'Minutes']]);
  const all = await putBack(mailbox, { where: '' });
  assert.deepEqual([all.done.messages, reasons(all)], [before.length - 2, [['there', 2]]]);
  assert.equal(hosted(server).length, before.length);
  const { messages } = await mailbox.call('listMessages', undefined, {}, { scope: 'archive', where: 'subject = one' });
  const one = await putBack(mailbox, { ids: [messages[0].id] });
  assert.deepEqual(reasons(one), [['there', 1]]);
  const listed = await mailbox.response('listRunMessages', { run: `${all.id}` }, { accept: 'text/csv' });
  const lines = (await listed.text()).trim().split('\r\n');
  assert.deepEqual(lines.map((line) => line.split(',').at(-1)).sort(), ['done', 'outcome', 'there', 'there']);
});

test('a folder that is gone is made again', async () => {
  const { mailbox, before } = await archivedAndPurged(smallServer());
  const { folderList } = mailbox.server;
  folderList.splice(
    folderList.findIndex(({ path }) => path === 'Minutes'),
    1,
  );
  await mailbox.scan();
  const run = await putBack(mailbox, { where: 'folder = Minutes' });
  assert.deepEqual([run.done.messages, run.left], [1, []]);
  assert.deepEqual(
    hosted(mailbox.server),
    before.filter((one) => one.startsWith('Minutes')),
  );
});

test('a folder whose UIDVALIDITY changes in mid-run, or that is deleted then, is looked up anew', async () => {
  for (const happens of ['changes', 'is deleted'] as const) {
    const { mailbox, before } = await archivedAndPurged(smallServer());
    const { server } = mailbox;
    const { id } = await mailbox.call('startRun', { action: 'put-back', bag: 1 });
    let appended = 0;
    // After the first of the two folders was filled.
    server.after = (command) => {
      if (command !== 'APPEND' || ++appended !== 2) return;
      if (happens === 'changes') server.folder('Minutes').uidValidity++;
      else server.folderList.splice(server.folderList.indexOf(server.folder('Minutes')), 1);
    };
    await mailbox.work();
    const run = await mailbox.call('getRun', undefined, { run: `${id}` });
    assert.deepEqual([run.state, run.done.messages, run.left], ['done', before.length, []], happens);
    assert.deepEqual(hosted(server), before, happens);
  }
});

test('killed before or after any command, each is there once at the end', async () => {
  for (const kind of ['before', 'after'] as const)
    for (let at = 1, cut = true; cut; at++) {
      const what = `cut ${kind} ${at}`;
      const { mailbox, before } = await archivedAndPurged(smallServer());
      let steps = 0;
      cut = false;
      mailbox.server[kind] = () => {
        if (++steps !== at || cut) return;
        cut = true;
        throw new MailProblem('connection-lost', 'killed');
      };
      const { id } = await mailbox.call('startRun', { action: 'put-back', bag: 1 });
      await mailbox.work().catch((error) => assert.equal(error.kind, 'connection-lost', error));
      if (cut) await mailbox.work();
      assert.deepEqual(hosted(mailbox.server), before, what);
      assert.equal((await mailbox.call('getRun', undefined, { run: `${id}` })).done.messages, before.length, what);
    }
});

test('what fell on the disk is not put back, and what has no room says so', async () => {
  const { mailbox, before } = await archivedAndPurged(smallServer());
  const folder = await folderOf(mailbox, 1);
  const path = join(folder, 'data/INBOX.mbox');
  const octets = readFileSync(path);
  const { offset } = (await readByIndex(folder)).find(({ subject }) => subject === 'two') as Record<string, any>;
  octets[offset + 60] = (octets[offset + 60] as number) ^ 1;
  writeFileSync(path, octets);
  mailbox.server.appended = () => {
    throw new MailProblem('no-room', 'over quota');
  };
  const full = await putBack(mailbox, { bag: 1 });
  assert.deepEqual(
    [full.done.messages, reasons(full), full.problem?.kind],
    [
      0,
      [
        ['damaged', 1],
        ['no-room', 2],
      ],
      'no-room',
    ],
  );
  mailbox.server.appended = () => undefined;
  const rest = await putBack(mailbox, { rest: full.id });
  assert.deepEqual([rest.done.messages, reasons(rest)], [2, [['damaged', 1]]]);
  assert.equal(hosted(mailbox.server).length, before.length - 1);
});

test('what names nothing of the archive, or another’s, is refused at its field', async () => {
  const { mailbox } = await archivedAndPurged(smallServer());
  const refused = (body: object, how: RegExp) =>
    assert.rejects(mailbox.call('startRun', { action: 'put-back', ...body }), how);
  await refused({}, /exactly one/);
  await refused({ bag: 1, where: '' }, /exactly one/);
  await refused({ bag: 9 }, /no messages/);
  await refused({ ids: [77] }, /no messages/);
  await refused({ bag: 1, to: 'Nowhere' }, /no such folder/);
  await refused({ bag: 1, from: 99 }, /no such account/);
  await refused({ where: '', expect: { messages: 1 } }, /would affect 3 messages/);
  await assert.rejects(mailbox.call('startRun', { action: 'trash', bag: 1 }), /put back/);
});
