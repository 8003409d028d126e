import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { FLAG_BITS } from '../../src/core/mailbox/flags';
import { MailProblem } from '../../src/mail/problem';
import type { Dialect } from '../../src/mail/server';
import { cleanUp, until } from '../harness';
import { deliver, FakeServer } from './fake-server';
import { Mailbox } from './mailbox';

after(cleanUp);

const DIALECTS: Record<string, Partial<Dialect>> = {
  'MOVE and UIDPLUS': {},
  'MOVE alone': { uidPlus: false },
  'UIDPLUS alone': { move: false },
  neither: { move: false, uidPlus: false },
};

/** Six letters, of which one bears somebody else's mark and one is flagged, a folder besides, and a trash that holds one. */
function server(dialect: Partial<Dialect> = {}): FakeServer {
  const fake = new FakeServer(dialect);
  const letters = ['a', 'b', 'c', 'd', 'e', 'f'].map((subject, index) => ({ subject, size: 100 + index }));
  fake.add('INBOX', 'inbox', letters);
  fake.add('Trash', 'trash', [{ subject: 'old', size: 50 }]);
  fake.add('Plots', null, [{ subject: 'g', size: 200 }]);
  const [, , c, d] = fake.folder('INBOX').messages;
  if (c) c.flags = FLAG_BITS.deleted;
  if (d) d.flags = FLAG_BITS.flagged;
  return fake;
}

const TAKEN = 'subject = a or subject = b or subject = d or subject = g';

/** What a run to the trash of TAKEN leaves: d stays by its flag. */
const MOVED = { INBOX: ['c', 'd', 'e', 'f'], Trash: ['a', 'b', 'g', 'old'], Plots: [] };

const marks = (fake: FakeServer, path: string) =>
  fake
    .folder(path)
    .messages.filter(({ flags }) => flags & FLAG_BITS.deleted)
    .map(({ subject }) => subject);

for (const [name, dialect] of Object.entries(DIALECTS)) {
  test(`with ${name}, a run to the trash moves what was frozen and nothing else, and is undone`, async () => {
    const mailbox = await Mailbox.open(server(dialect));
    const run = await mailbox.run({ action: 'trash', where: TAKEN });
    assert.deepEqual(mailbox.hosted, MOVED);
    assert.deepEqual(await mailbox.indexed(), MOVED);
    assert.deepEqual([run.state, run.done, run.asked.messages], ['done', { messages: 3, bytes: 401 }, 4]);
    assert.deepEqual(run.left, [{ reason: 'guarded', messages: 1, bytes: 103 }]);
    assert.deepEqual(marks(mailbox.server, 'INBOX'), ['c'], 'others’ marks are as they were');
    assert.deepEqual(marks(mailbox.server, 'Trash'), []);
    const undo = await mailbox.run({ action: 'restore', run: run.id });
    assert.equal(undo.done.messages, 3);
    assert.deepEqual(mailbox.hosted, {
      INBOX: ['a', 'b', 'c', 'd', 'e', 'f'],
      Trash: ['old'],
      Plots: ['g'],
    });
    assert.deepEqual(await mailbox.indexed(), mailbox.hosted);
  });

  test(`with ${name}, a purge takes what was frozen from the trash, and says what it freed`, async () => {
    const fake = server(dialect);
    deliver(fake.folder('Trash'), { subject: 'newer', size: 70 });
    const mailbox = await Mailbox.open(fake);
    const asked = await mailbox.call('startRun', { action: 'purge', where: '' });
    deliver(fake.folder('Trash'), { subject: 'newest', size: 90, flags: FLAG_BITS.deleted });
    await mailbox.work();
    const run = await mailbox.call('getRun', {}, { run: `${asked.id}` });
    assert.deepEqual(run.done, { messages: 2, bytes: 120 });
    assert.deepEqual(mailbox.hosted.Trash, ['newest'], 'what came since stays, whatever mark it bears');
    assert.deepEqual(marks(fake, 'Trash'), ['newest']);
  });

  test(`with ${name}, killed after any command, or before its answer came, it ends as one that nobody disturbed`, async () => {
    for (let at = 1; ; at++) {
      const fake = server(dialect);
      const mailbox = await Mailbox.open(fake);
      let commands = 0;
      let cut = false;
      fake.after = () => {
        commands++;
        if (commands !== at) return;
        cut = true;
        throw new MailProblem('connection-lost', 'cut');
      };
      const { id } = await mailbox.call('startRun', { action: 'trash', where: TAKEN });
      await mailbox.work().catch((error) => assert.equal(error.kind, 'connection-lost'));
      if (cut) await mailbox.work();
      assert.deepEqual(mailbox.hosted, MOVED, `cut after command ${at}`);
      assert.deepEqual(await mailbox.indexed(), MOVED, `cut after command ${at}`);
      assert.deepEqual(marks(fake, 'INBOX'), ['c'], `cut after command ${at}`);
      const run = await mailbox.call('getRun', {}, { run: `${id}` });
      assert.deepEqual([run.state, run.done], ['done', { messages: 3, bytes: 401 }], `cut after command ${at}`);
      if (!cut) break;
    }
  });
}

/** Answers that lie, of one kind of question, from so manieth on for so many times. */
interface Lies {
  of: 'searched' | 'fetched';
  from: number;
  times: number;
}

/** Has a server lie so; nothing is found, or of what is told only every other. Gives whether it did. */
function lie(fake: FakeServer, { of, from, times }: Lies): () => boolean {
  let asked = 0;
  const isLie = () => ++asked >= from && asked < from + times;
  if (of === 'searched') fake.searched = (uids) => (isLie() ? [] : uids);
  else fake.fetched = (records) => (isLie() ? records.filter((_, index) => index % 2 === 1) : records);
  return () => asked >= from;
}

// What a server with UIDPLUS tells of itself saves questions: one without is asked all of them.
for (const name of ['MOVE alone', 'neither'])
  for (const of of ['searched', 'fetched'] as const)
    test(`with ${name}, cut after any command and lied to in what is ${of} then, no message is lost nor twice`, async () => {
      const dialect = DIALECTS[name] as Partial<Dialect>;
      const commands = dialect.move === false ? 3 : 1;
      for (let at = 1; at <= commands; at++)
        for (const times of [1, 2])
          for (let from = 1, reached = true; reached; from++) {
            const fake = server(dialect);
            const mailbox = await Mailbox.open(fake);
            let sent = 0;
            fake.after = () => {
              if (++sent === at) throw new MailProblem('connection-lost', 'cut');
            };
            const { id } = await mailbox.call('startRun', { action: 'trash', where: TAKEN });
            await assert.rejects(mailbox.work(), { kind: 'connection-lost' });
            const lied = lie(fake, { of, from, times });
            const where = `cut after command ${at}, ${times} lies from ${from} on`;
            for (let tries = 0; tries < 4 && (await runOf(mailbox, id)).state !== 'done'; tries++)
              await mailbox.work().catch((error) => assert.equal(error.kind, 'unreadable-answer', where));
            reached = lied();
            assert.deepEqual(mailbox.hosted, MOVED, where);
            const run = await runOf(mailbox, id);
            assert.deepEqual([run.state, run.done], ['done', { messages: 3, bytes: 401 }], where);
            fake.searched = (uids) => uids;
            fake.fetched = (records) => records;
            assert.deepEqual(await mailbox.indexed(), MOVED, where);
          }
    });

test('what was marked and not expunged is not said to be purged, whatever one answer says', async () => {
  for (const uidPlus of [true, false])
    for (const from of [1, 2, 3]) {
      const fake = server({ uidPlus });
      const mailbox = await Mailbox.open(fake);
      fake.before = (command) => {
        if (command.endsWith('EXPUNGE')) throw new MailProblem('connection-lost', 'cut');
      };
      const { id } = await mailbox.call('startRun', { action: 'purge', where: '' });
      await assert.rejects(mailbox.work(), { kind: 'connection-lost' });
      fake.before = () => {};
      lie(fake, { of: 'searched', from, times: 1 });
      await mailbox.work();
      assert.deepEqual(mailbox.hosted.Trash, [], `a lie in answer ${from}`);
      assert.deepEqual((await runOf(mailbox, id)).done, { messages: 1, bytes: 50 }, `a lie in answer ${from}`);
    }
});

const runOf = (mailbox: Mailbox, id: number) => mailbox.call('getRun', {}, { run: `${id}` });

test('an original goes only while its copy stands: what another program removes from the trash is not lost', async () => {
  const fake = server({ move: false });
  const mailbox = await Mailbox.open(fake);
  fake.after = (command) => {
    if (command !== 'COPY') return;
    const trash = fake.folder('Trash');
    trash.messages = trash.messages.filter(({ subject }) => subject !== 'b');
    throw new MailProblem('connection-lost', 'cut');
  };
  await mailbox.call('startRun', { action: 'trash', where: 'subject = a or subject = b' });
  await assert.rejects(mailbox.work());
  fake.after = () => {};
  await mailbox.work();
  const everywhere = Object.values(mailbox.hosted).flat();
  for (const subject of ['a', 'b']) assert.ok(everywhere.includes(subject), subject);
});

test('a host that puts into the trash what is expunged elsewhere is found out: each message is there once, then nowhere', async () => {
  for (const dialect of [{ move: false }, { move: false, uidPlus: false }]) {
    const fake = server(dialect);
    fake.handsOver = true;
    const mailbox = await Mailbox.open(fake);
    await mailbox.run({ action: 'trash', where: TAKEN });
    assert.deepEqual(mailbox.hosted, MOVED);
    assert.deepEqual(await mailbox.indexed(), MOVED);
    const lot = await mailbox.call('createLot', { fate: 'purge', where: 'subject = e or subject = f' });
    const purge = await mailbox.run({ action: 'purge', lots: [lot.id] });
    assert.deepEqual(purge.done, { messages: 2, bytes: 209 });
    assert.deepEqual(mailbox.hosted.INBOX, ['c', 'd']);
    assert.deepEqual(mailbox.hosted.Trash, MOVED.Trash);
  }
});

interface Upset {
  name: string;
  act(fake: FakeServer): void;
  reason: string;
  hosted: Record<string, string[]>;
}

const EVERYTHING_STAYS = { INBOX: ['a', 'b', 'c', 'd', 'e', 'f'], Trash: ['old'], Plots: ['g'] };

const UPSETS: Upset[] = [
  {
    name: 'was deleted by another program',
    act: (fake) => {
      fake.folder('INBOX').messages.shift();
    },
    reason: 'vanished',
    hosted: { ...EVERYTHING_STAYS, INBOX: ['b', 'c', 'd', 'e', 'f'] },
  },
  {
    name: 'was moved by another program',
    act: (fake) => {
      const [first] = fake.folder('INBOX').messages.splice(0, 1);
      if (first) deliver(fake.folder('Plots'), { ...first });
    },
    reason: 'moved',
    hosted: { INBOX: ['b', 'c', 'd', 'e', 'f'], Trash: ['old'], Plots: ['a', 'g'] },
  },
  {
    name: 'was flagged by another program',
    act: (fake) => {
      const [first] = fake.folder('INBOX').messages;
      if (first) first.flags = FLAG_BITS.flagged;
    },
    reason: 'guarded',
    hosted: EVERYTHING_STAYS,
  },
  {
    name: 'is in a folder that can only be read now',
    act: (fake) => {
      fake.folder('INBOX').readOnly = true;
    },
    reason: 'read-only',
    hosted: EVERYTHING_STAYS,
  },
  {
    name: 'is in a folder that is gone',
    act: (fake) => {
      fake.folderList.splice(0, 1);
    },
    reason: 'folder-gone',
    hosted: { Trash: ['old'], Plots: ['g'] },
  },
  {
    name: 'is refused by the server',
    act: (fake) => {
      fake.before = (command) => {
        if (command === 'MOVE') throw new MailProblem('command-refused', 'no');
      };
    },
    reason: 'refused',
    hosted: EVERYTHING_STAYS,
  },
];

for (const { name, act, reason, hosted } of UPSETS)
  test(`what ${name} is left, and the run says why`, async () => {
    const fake = server();
    const mailbox = await Mailbox.open(fake);
    await mailbox.call('startRun', { action: 'trash', where: 'subject = a' });
    act(fake);
    await mailbox.work();
    const { runs } = await mailbox.call('listRuns');
    assert.deepEqual([runs[0].state, runs[0].done.messages], ['done', 0]);
    assert.deepEqual(
      runs[0].left.map((left: { reason: string }) => left.reason),
      [reason],
    );
    assert.deepEqual(mailbox.hosted, hosted);
  });

test('a folder that got a new UIDVALIDITY is read anew, and its messages are followed', async () => {
  const fake = server();
  const mailbox = await Mailbox.open(fake);
  await mailbox.call('startRun', { action: 'trash', where: TAKEN });
  const inbox = fake.folder('INBOX');
  inbox.uidValidity++;
  inbox.messages.forEach((message, index) => {
    message.uid = 100 + index;
  });
  inbox.uidNext = 200;
  await mailbox.work();
  assert.deepEqual(mailbox.hosted, MOVED);
  assert.deepEqual(await mailbox.indexed(), MOVED);
});

test('a run is paused and cancelled between batches; what was done stays, and the rest is left', async () => {
  const fake = server();
  const mailbox = await Mailbox.open(fake);
  const { id } = await mailbox.call('startRun', { action: 'trash', where: TAKEN });
  await mailbox.call('cancelRun', {}, { run: `${id}` });
  await mailbox.work();
  const run = await mailbox.call('getRun', {}, { run: `${id}` });
  assert.deepEqual([run.state, run.left.map((left: { reason: string }) => left.reason)], ['cancelled', ['cancelled']]);
  assert.deepEqual(mailbox.hosted, EVERYTHING_STAYS);
});

test('who asks for a pause while the run ends is told that it has ended, and nothing of it changes', async () => {
  const mailbox = await Mailbox.open(server());
  const { id } = await mailbox.call('startRun', { action: 'trash', where: TAKEN });
  const ending = await mailbox.database.connect();
  await ending.query('begin');
  await ending.query(`update run set state = 'done', ended_at = now() where id = $1`, [id]);
  const pausing = mailbox.call('pauseRun', {}, { run: `${id}` });
  pausing.catch(() => undefined);
  await until(async () => {
    const { rows } = await mailbox.database.query(`select from pg_locks where not granted`);
    return rows.length > 0;
  });
  await ending.query('commit');
  ending.release();
  await assert.rejects(pausing, { type: 'wrong-state' });
  const { rows } = await mailbox.database.query('select state, wanted from run where id = $1', [id]);
  assert.deepEqual(rows, [{ state: 'done', wanted: null }]);
});
