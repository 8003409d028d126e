import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { FLAG_BITS } from '../../src/core/mailbox/flags';
import { cleanUp } from '../harness';
import { deliver, FakeServer, type Given } from './fake-server';
import { Mailbox } from './mailbox';

after(cleanUp);

/** Ten messages of 101 to 110 octets in the inbox, the last one flagged; one in the trash, one in a view that repeats. */
async function open(more: (fake: FakeServer) => void = () => {}): Promise<Mailbox> {
  const fake = new FakeServer();
  const ten = Array.from({ length: 10 }, (_, index): Given => ({ subject: `s${index + 1}`, size: 101 + index }));
  (ten[9] as Given).flags = FLAG_BITS.flagged;
  fake.add('INBOX', 'inbox', ten);
  fake.add('Trash', 'trash', [{ subject: 'thrown away', size: 1_000 }]);
  fake.add('Trash/Old', null, [{ subject: 'long ago', size: 2_000 }]);
  fake.add('Everything', null, ten, { repeats: true });
  more(fake);
  return Mailbox.open(fake);
}

interface Refusal {
  name: string;
  operation: string;
  body: unknown;
  status: number;
  type: string;
  field?: string;
}

const all = { messages: 10, bytes: 1_055 };

/** What must be refused before anything is frozen. */
const REFUSALS: Refusal[] = [
  ...[{ action: 'purge', where: '', ids: [1] }, { action: 'purge' }, { action: 'purge', folder: 'Trash', run: 1 }].map(
    (body, index) => ({
      name: `a run with another number of selectors than one (${index})`,
      operation: 'startRun',
      body,
      status: 422,
      type: 'invalid',
    }),
  ),
  {
    name: 'a run over an unknown folder',
    operation: 'startRun',
    body: { action: 'purge', folder: 'Nowhere' },
    status: 422,
    type: 'invalid',
    field: 'folder',
  },
  {
    name: 'a run over a view that repeats mail',
    operation: 'startRun',
    body: { action: 'purge', folder: 'Everything' },
    status: 409,
    type: 'repeated-view',
  },
  {
    name: 'a run over nothing',
    operation: 'startRun',
    body: { action: 'trash', where: 'subject = none' },
    status: 409,
    type: 'nothing-to-do',
  },
  {
    name: 'a run that expects another number of messages',
    operation: 'startRun',
    body: { action: 'trash', where: '', expect: { messages: 9 } },
    status: 409,
    type: 'not-as-expected',
  },
  {
    name: 'a run that expects other bytes',
    operation: 'startRun',
    body: { action: 'trash', where: '', expect: { ...all, bytes: 1_056 } },
    status: 409,
    type: 'not-as-expected',
  },
  {
    name: 'a purge of a lot for the trash',
    operation: 'startRun',
    body: { action: 'purge', lots: [1] },
    status: 409,
    type: 'other-fate',
  },
  {
    name: 'a move of a lot for a purge',
    operation: 'startRun',
    body: { action: 'trash', lots: [2] },
    status: 409,
    type: 'other-fate',
  },
  {
    name: 'a run of a lot that is not there',
    operation: 'startRun',
    body: { action: 'trash', lots: [9] },
    status: 422,
    type: 'invalid',
    field: 'lots',
  },
  {
    name: 'a run of no lots',
    operation: 'startRun',
    body: { action: 'trash', lots: [] },
    status: 422,
    type: 'invalid',
    field: 'lots',
  },
  {
    name: 'a restore to an unknown folder',
    operation: 'startRun',
    body: { action: 'restore', where: '', to: 'Nowhere' },
    status: 422,
    type: 'invalid',
    field: 'to',
  },
  {
    name: 'a restore to a view',
    operation: 'startRun',
    body: { action: 'restore', where: '', to: 'Everything' },
    status: 422,
    type: 'invalid',
    field: 'to',
  },
  {
    name: 'a run of criteria that can’t be read',
    operation: 'startRun',
    body: { action: 'trash', where: 'size >' },
    status: 422,
    type: 'criteria',
    field: 'where',
  },
  {
    name: 'a lot with neither criteria nor ids',
    operation: 'createLot',
    body: {},
    status: 422,
    type: 'invalid',
    field: 'where',
  },
  {
    name: 'a lot with both',
    operation: 'createLot',
    body: { where: '', ids: [1] },
    status: 422,
    type: 'invalid',
    field: 'where',
  },
  {
    name: 'a lot for the trash from the trash',
    operation: 'createLot',
    body: { where: '', scope: 'trash' },
    status: 422,
    type: 'invalid',
    field: 'scope',
  },
  {
    name: 'a lot for the trash from everywhere',
    operation: 'createLot',
    body: { where: '', scope: 'all' },
    status: 422,
    type: 'invalid',
    field: 'scope',
  },
  {
    name: 'a lot of nothing',
    operation: 'createLot',
    body: { where: 'subject = none' },
    status: 422,
    type: 'invalid',
    field: 'where',
  },
  {
    name: 'a lot that expects other messages',
    operation: 'createLot',
    body: { where: '', expect: { ...all, messages: 11 } },
    status: 409,
    type: 'not-as-expected',
  },
  {
    name: 'a lot that expects other bytes',
    operation: 'createLot',
    body: { where: '', expect: { ...all, bytes: 1_054 } },
    status: 409,
    type: 'not-as-expected',
  },
  {
    name: 'a guard over everything',
    operation: 'createGuard',
    body: { where: '' },
    status: 422,
    type: 'invalid',
    field: 'where',
  },
  {
    name: 'a hold without a reason',
    operation: 'createGuard',
    body: { where: 'size > 1', years: 3 },
    status: 422,
    type: 'invalid',
    field: 'reason',
  },
  {
    name: 'a guard that asks for guards',
    operation: 'createGuard',
    body: { where: 'guarded' },
    status: 422,
    type: 'criteria',
    field: 'where',
  },
  {
    name: 'a guard over words in the text',
    operation: 'createGuard',
    body: { where: 'text ~ lease' },
    status: 422,
    type: 'criteria',
    field: 'where',
  },
];

test('what must be refused is refused with its type at its field, and leaves nothing behind', async () => {
  const mailbox = await open();
  await mailbox.call('createLot', { where: 'subject = s1' });
  await mailbox.call('createLot', { where: 'subject = s2', fate: 'purge' });
  const state = async () => {
    const counts = ['run', 'lot', 'guard', 'run_source', 'ledger_entry', 'job'].map(
      (table) => `(select count(*) from ${table})`,
    );
    return (await mailbox.database.query(`select ${counts.join(', ')}`)).rows;
  };
  const before = await state();
  for (const { name, operation, body, status, type, field } of REFUSALS) {
    await assert.rejects(mailbox.call(operation, body), (error: any) => {
      assert.deepEqual([error.status, error.type], [status, type], `${name}: ${error.stack}`);
      if (field) assert.equal(error.errors?.[0]?.field, field, name);
      return true;
    });
    assert.deepEqual(await state(), before, name);
  }
});

test('a run takes what its selector names within its scope, and nothing of a view', async () => {
  const cases: { body: object; hosted: Record<string, string[]> }[] = [
    { body: { action: 'purge', where: '' }, hosted: { Trash: [], 'Trash/Old': [] } },
    { body: { action: 'purge', folder: 'Trash' }, hosted: { Trash: [] } },
    { body: { action: 'purge', folder: 'Trash', subfolders: true }, hosted: { Trash: [], 'Trash/Old': [] } },
    { body: { action: 'purge', where: 'size >= 1500' }, hosted: { 'Trash/Old': [] } },
    {
      body: { action: 'trash', where: 'size >= 105 and not flagged' },
      hosted: { INBOX: ['s1', 's10', 's2', 's3', 's4'] },
    },
    { body: { action: 'purge', folder: 'INBOX' }, hosted: { INBOX: ['s10'] } },
  ];
  for (const { body, hosted } of cases) {
    const mailbox = await open();
    const before = mailbox.hosted;
    const { left } = await mailbox.run(body);
    const moved = 'action' in body && body.action === 'trash' ? ['s5', 's6', 's7', 's8', 's9'] : [];
    const expected = { ...before, ...hosted };
    if (moved.length > 0) expected.Trash = [...(before.Trash ?? []), ...moved].sort();
    assert.deepEqual(mailbox.hosted, expected, JSON.stringify(body));
    assert.deepEqual(await mailbox.indexed(), expected, JSON.stringify(body));
    assert.equal(
      left.every(({ reason }) => reason === 'guarded'),
      true,
    );
  }
});

test('lots freeze: what comes later is in none, exceptions and guards stay out, overlaps count once', async () => {
  const mailbox = await open();
  const ids = async (where: string) =>
    (await mailbox.call('listMessages', {}, {}, { where, order: 'subject', limit: '100' })).messages.map(
      ({ id }: { id: number }) => id,
    );
  const [first] = await ids('subject = s1');
  const big = await mailbox.call('createLot', { where: 'size >= 101', except: [first] });
  assert.deepEqual([big.messages, big.bytes], [8, 1_055 - 101 - 110]);
  assert.deepEqual([big.excepted, big.guarded], [1, { messages: 1, bytes: 110 }]);
  const some = await mailbox.call('createLot', { where: 'size >= 109' });
  assert.deepEqual(
    [some.adds, some.only],
    [
      { messages: 0, bytes: 0 },
      { messages: 0, bytes: 0 },
    ],
  );
  deliver(mailbox.server.folder('INBOX'), { subject: 'new', size: 5_000 });
  await mailbox.scan();
  const { total, guarded } = await mailbox.call('listLots');
  assert.deepEqual(
    [total, guarded],
    [
      { messages: 8, bytes: 844 },
      { messages: 1, bytes: 110 },
    ],
  );
  // What is allowed although a guard keeps it goes; what a hold keeps does not, whatever was allowed.
  const [flagged] = await ids('flagged');
  const allowed = await mailbox.call('changeLot', { allow: [flagged] }, { lot: `${big.id}` });
  assert.deepEqual([allowed.messages, allowed.guarded.messages], [9, 0]);
  const hold = await mailbox.call('createGuard', { where: 'subject = s10', years: 100, reason: 'the rules' });
  const lots = (await mailbox.call('listLots')).lots;
  assert.deepEqual(
    lots.map(({ messages }: { messages: number }) => messages),
    [8, 1],
  );
  await mailbox.call('liftHold', { reason: 'wound up' }, { guard: `${hold.id}` });
  const run = await mailbox.run({ action: 'trash', lots: [big.id] });
  assert.deepEqual(run.done, { messages: 9, bytes: 954 });
  assert.deepEqual(mailbox.hosted.INBOX, ['new', 's1']);
});

test('a lot is split by criteria: both halves together are the whole, and neither half is nothing', async () => {
  const mailbox = await open();
  const lot = await mailbox.call('createLot', { where: 'not flagged' });
  const half = await mailbox.call('splitLot', { where: 'size >= 105' }, { lot: `${lot.id}` });
  const { lots, total } = await mailbox.call('listLots');
  assert.equal(half.messages, 5);
  assert.deepEqual([lots.length, total], [2, { messages: 9, bytes: 945 }]);
  for (const where of ['size > 1', 'size > 1000'])
    await assert.rejects(mailbox.call('splitLot', { where }, { lot: `${lot.id}` }), { status: 422 });
});

test('purge goes before trash where a message is in lots of both, and each is carried out by its own run', async () => {
  const mailbox = await open();
  const trash = await mailbox.call('createLot', { where: 'subject = s1 or subject = s2' });
  const purge = await mailbox.call('createLot', { where: 'subject = s2 or subject = s3', fate: 'purge' });
  const plan = await mailbox.call('getPlan');
  assert.notEqual(plan.purge, '');
  assert.deepEqual((await mailbox.call('listLots')).total.messages, 3);
  await mailbox.run({ action: 'purge', lots: [purge.id] });
  const moved = await mailbox.run({ action: 'trash', lots: [trash.id] });
  assert.equal(moved.done.messages, 1);
  assert.equal(mailbox.hosted.INBOX?.length, 7);
  assert.deepEqual(mailbox.hosted.Trash, ['s1', 'thrown away']);
});

test('the level counts each folder once, leaves views out, and knows what the plan and the trash hold', async () => {
  const mailbox = await open();
  const level = await mailbox.call('getLevel');
  assert.deepEqual([level.mail, level.trash], [all, { messages: 2, bytes: 3_000 }]);
  assert.deepEqual([level.used, level.usedBy, level.unread], [4_055, 'counted', 0]);
  await mailbox.call('createLot', { where: 'size >= 106 and not flagged' });
  const after = await mailbox.call('getLevel');
  assert.deepEqual(after.plan, { messages: 4, bytes: 430 });
  assert.equal(after.after, 4_055 - 3_000 - 430);
  // What a guard keeps in the trash stays there, so it is not counted as going.
  await mailbox.call('createGuard', { where: 'size = 2000' });
  const guarded = await mailbox.call('getLevel');
  assert.deepEqual(guarded.trashGuarded, { messages: 1, bytes: 2_000 });
  assert.equal(guarded.after, 4_055 - 1_000 - 430);
});

test('guards from the beginning keep flagged mail, fresh drafts and the mail of correspondents, and can be switched off', async () => {
  const now = new Date();
  const old = new Date(now.getTime() - 40 * 86_400_000);
  const mailbox = await open((fake) => {
    fake.add('Drafts', 'drafts', [
      { subject: 'fresh', size: 1, received: now },
      { subject: 'stale', size: 2, received: old },
    ]);
    fake.add('Sent', 'sent', [
      { subject: 'to hetty', size: 3, received: now, recipients: [{ name: '', address: 'Hetty@quorn.example' }] },
    ]);
    fake.add('Plots', null, [
      { subject: 'from hetty', size: 4, from: { name: '', address: 'hetty@quorn.example' } },
      { subject: 'from nobody', size: 5, from: { name: '', address: 'nobody@quorn.example' } },
    ]);
  });
  const guarded = async () =>
    (await mailbox.call('listMessages', {}, {}, { where: 'guarded', order: 'subject', limit: '100' })).messages.map(
      ({ subject }: { subject: string }) => subject,
    );
  assert.deepEqual(await guarded(), ['fresh', 'from hetty', 's10', 'to hetty']);
  const { guards } = await mailbox.call('listGuards');
  for (const { id, kind } of guards as { id: number; kind: string }[])
    if (kind === 'correspondents') await mailbox.call('changeGuard', { active: false }, { guard: `${id}` });
  assert.deepEqual(await guarded(), ['fresh', 's10']);
  for (const { id } of guards as { id: number }[])
    await assert.rejects(mailbox.call('deleteGuard', {}, { guard: `${id}` }), { status: 409 });
});
