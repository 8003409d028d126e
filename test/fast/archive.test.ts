import assert from 'node:assert/strict';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { DiskFull } from '../../src/archive/bag';
import { MailProblem } from '../../src/mail/problem';
import { bagById } from '../../src/store/archive/bags';
import type { Run } from '../../src/store/runs/runs';
import { cleanUp } from '../harness';
import { difficultServer, folderOf, isWhole, message, octetsHosted, readByIndex, sumOf } from './bagged';
import { FakeServer } from './fake-server';
import { given } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

/** Two folders with two letters each. */
function smallServer(): FakeServer {
  const server = new FakeServer();
  for (const [path, role] of [
    ['INBOX', 'inbox'],
    ['Minutes', null],
  ] as const)
    server.add(
      path,
      role,
      [1, 2].map((number) => given(message(`${path} ${number}`, `From here on ${number}\r\n`))),
    );
  server.add('Trash', 'trash', []);
  return server;
}

const isOutsideTrash = (server: FakeServer) =>
  server.folderList.filter(({ role }) => role !== 'trash').flatMap(({ messages }) => messages);
const inTrash = (server: FakeServer) => server.folder('Trash').messages;

/** Marks everything for the archive and the trash, and asks for the run. */
async function begun(mailbox: Mailbox): Promise<number> {
  const lot = await mailbox.call('createLot', { where: '', fate: 'archive', label: 'everything' });
  return (await mailbox.call('startRun', { action: 'archive', lots: [lot.id] })).id;
}

const runOf = (mailbox: Mailbox, id: number): Promise<Run> => mailbox.call('getRun', undefined, { run: `${id}` });

/** Works until nothing waits, whatever ends it in between. */
async function workAllThrough(mailbox: Mailbox, each: () => Promise<void>): Promise<void> {
  for (let times = 0; times < 10; times++) {
    const failed = await mailbox.work().then(
      () => undefined,
      (error) => error,
    );
    await each();
    if (!failed) return;
    assert.equal(failed.kind, 'connection-lost', failed);
  }
  assert.fail('it never came to an end');
}

/** Fails if a message is in the trash without being in a bag that was read back. */
async function isSavedBeforeItGoes(mailbox: Mailbox, run: number, what: string): Promise<void> {
  const gone = inTrash(mailbox.server);
  if (gone.length === 0) return;
  const { bag } = await runOf(mailbox, run);
  const saved = new Set((await readByIndex(await folderOf(mailbox, bag as number))).map(({ octets }) => sumOf(octets)));
  for (const { octets } of gone) assert.ok(saved.has(sumOf(octets as Buffer)), what);
}

test('messages are saved, read back, and go to the trash; the run says in which bag they are', async () => {
  const mailbox = await Mailbox.open(difficultServer());
  const count = octetsHosted(mailbox.server).length;
  const id = await begun(mailbox);
  assert.equal((await mailbox.call('listLots')).lots.length, 0);
  await mailbox.work();
  const run = await runOf(mailbox, id);
  assert.deepEqual([run.state, run.done.messages, run.left], ['done', count, []]);
  assert.deepEqual([isOutsideTrash(mailbox.server).length, inTrash(mailbox.server).length], [0, count]);
  const bag = await mailbox.call('getBag', undefined, { bag: `${run.bag}` });
  assert.deepEqual(
    [bag.label, bag.state, bag.checked.files, bag.run.id, bag.run.done.messages],
    ['everything', 'done', count, id, count],
  );
  await isWhole(mailbox, bag.id, 'archived');
});

test('killed before or after any command, or at any message, nothing goes that was not saved, and all of it goes at last', async () => {
  const kinds = ['before', 'after', 'served'] as const;
  for (const kind of kinds)
    for (let at = 1, cut = true; cut; at++) {
      const what = `cut ${kind} ${at}`;
      const mailbox = await Mailbox.open(smallServer());
      const count = octetsHosted(mailbox.server).length;
      const id = await begun(mailbox);
      let steps = 0;
      cut = false;
      const step = () => {
        if (++steps !== at || cut) return;
        cut = true;
        throw new MailProblem('connection-lost', 'killed');
      };
      if (kind === 'served')
        mailbox.server.served = (octets) => {
          step();
          return octets;
        };
      else mailbox.server[kind] = step;
      await workAllThrough(mailbox, () => isSavedBeforeItGoes(mailbox, id, what));
      const run = await runOf(mailbox, id);
      assert.deepEqual([run.state, run.done.messages, inTrash(mailbox.server).length], ['done', count, count], what);
      await isWhole(mailbox, run.bag as number, what);
    }
});

test('what could not be saved as the server says it is stays, with the reason, and can’t go to the trash as the rest of that run', async () => {
  const mailbox = await Mailbox.open(difficultServer());
  const { server } = mailbox;
  const count = octetsHosted(server).length;
  server.served = (octets) => (octets.includes('From three') ? octets.subarray(0, octets.length - 3) : octets);
  const id = await begun(mailbox);
  await mailbox.work();
  const run = await runOf(mailbox, id);
  assert.deepEqual(
    [run.done.messages, run.left.map(({ reason, messages }) => [reason, messages])],
    [count - 1, [['unchecked', 1]]],
  );
  assert.deepEqual(
    isOutsideTrash(server).map(({ subject }) => subject),
    ['line feeds alone'],
  );
  await assert.rejects(mailbox.call('startRun', { action: 'trash', rest: id }), /was for another action/);
  server.served = (octets) => octets;
  const again = await mailbox.run({ action: 'archive', rest: id });
  assert.deepEqual([again.done.messages, isOutsideTrash(server).length], [1, 0]);
});

test('a message that lies in another bag is not saved twice, but its copy is read once more before it goes', async () => {
  const mailbox = await Mailbox.open(difficultServer());
  const { server } = mailbox;
  const count = octetsHosted(server).length;
  const { id } = await mailbox.call('saveFiles', { place: 'here', what: 'mail', where: '' });
  await mailbox.work();
  const folder = await folderOf(mailbox, id);
  const path = join(folder, 'data/INBOX.mbox');
  const octets = readFileSync(path);
  const { offset } = (await readByIndex(folder)).find(({ subject }) => subject === 'no line end') as Record<
    string,
    any
  >;
  octets[offset + 80] = (octets[offset + 80] as number) ^ 4;
  writeFileSync(path, octets);
  const run = await mailbox.run({ action: 'archive', where: '' });
  assert.deepEqual([run.bag, run.done.messages], [null, count - 1]);
  assert.deepEqual(
    isOutsideTrash(server).map(({ subject }) => subject),
    ['no line end'],
  );
});

test('who cancels while it saves keeps every message, and no half of a bag; who pauses goes on where it was', async () => {
  for (const verb of ['pause', 'cancel'] as const) {
    const mailbox = await Mailbox.open(difficultServer());
    const { server } = mailbox;
    const count = octetsHosted(server).length;
    const id = await begun(mailbox);
    const { bag } = await runOf(mailbox, id);
    await assert.rejects(mailbox.call('pauseBag', {}, { bag: `${bag}` }), /Pause, resume or cancel the run/);
    await assert.rejects(mailbox.call('deleteBag', {}, { bag: `${bag}` }), /Pause, resume or cancel the run/);
    let served = 0;
    server.served = async (octets) => {
      if (++served === 3) {
        await mailbox.call(`${verb}Run`, {}, { run: `${id}` });
        // It is asked no more often than once in a while.
        await new Promise((resolve) => setTimeout(resolve, 250));
      }
      return octets;
    };
    const outcome = await mailbox.work();
    assert.equal(outcome, verb === 'pause' ? 'paused' : 'cancelled');
    assert.equal(inTrash(server).length, 0);
    const stored = await bagById(mailbox.database, mailbox.account.id, bag as number);
    assert.equal(stored?.state, verb === 'pause' ? 'paused' : 'cancelled');
    if (verb === 'cancel') {
      const run = await runOf(mailbox, id);
      assert.deepEqual(
        [run.state, run.left.map(({ reason, messages }) => [reason, messages])],
        ['cancelled', [['cancelled', count]]],
      );
      continue;
    }
    await mailbox.database.query(`update run set wanted = null`);
    const noted = stored?.saved.files as number;
    const before = served;
    await mailbox.work();
    assert.equal((await runOf(mailbox, id)).done.messages, count);
    assert.equal(served - before, count - noted, 'what was saved is not fetched again');
    await isWhole(mailbox, bag as number, verb);
  }
});

test('a full disk stops it before anything goes, and it goes on when there is room', async () => {
  const mailbox = await Mailbox.open(difficultServer());
  const { archive } = mailbox.context;
  const count = octetsHosted(mailbox.server).length;
  mailbox.context.archive = {
    bag(account: number, folder: string) {
      const bag = archive.bag(account, folder);
      bag.seal = async () => {
        throw new DiskFull('full');
      };
      return bag;
    },
  } as typeof archive;
  const id = await begun(mailbox);
  await assert.rejects(mailbox.work(), DiskFull);
  const { bag } = await runOf(mailbox, id);
  const stored = await bagById(mailbox.database, mailbox.account.id, bag as number);
  assert.deepEqual([stored?.state, stored?.problem?.kind, inTrash(mailbox.server).length], ['paused', 'disk-full', 0]);
  mailbox.context.archive = archive;
  await mailbox.work();
  assert.equal((await runOf(mailbox, id)).done.messages, count);
  await isWhole(mailbox, bag as number, 'with room');
});

test('a lot for the trash can be archived first, and back; a lot for a purge can’t', async () => {
  const mailbox = await Mailbox.open(difficultServer());
  const lot = await mailbox.call('createLot', { where: '' });
  const fate = async (to: string) => (await mailbox.call('changeLot', { fate: to }, { lot: `${lot.id}` })).fate;
  assert.deepEqual(
    [await fate('archive'), await fate('trash'), await fate('archive')],
    ['archive', 'trash', 'archive'],
  );
  const { total } = await mailbox.call('listLots');
  assert.equal(total.messages, octetsHosted(mailbox.server).length);
  const purge = await mailbox.call('createLot', { where: '', fate: 'purge' });
  await assert.rejects(mailbox.call('changeLot', { fate: 'archive' }, { lot: `${purge.id}` }), /for another action/);
  await assert.rejects(mailbox.call('startRun', { action: 'trash', lots: [lot.id] }), /for another action: archive/);
});
