import assert from 'node:assert/strict';
import { createHash } from 'node:crypto';
import { appendFileSync, readdirSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { FLAG_BITS } from '../../src/core/mailbox/flags';
import { NOTE_DESCRIPTION } from '../../src/core/mime/note';
import { MailProblem } from '../../src/mail/problem';
import { cleanUp } from '../harness';
import { type FakeMessage, FakeServer } from './fake-server';
import { given, letter, octetsOf } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

const PICTURES = [
  { name: 'open-day-01.jpg', octets: octetsOf(5_000, 1) },
  { name: 'open-day-02.jpg', octets: octetsOf(7_001, 2) },
];
const PLAN = { name: 'plan.pdf', octets: octetsOf(9_000, 3), type: 'application/pdf' };
const RECEIVED = new Date('2021-05-03T08:09:10Z');

const LETTERS = {
  'open day': letter('open day', PICTURES),
  plan: letter('plan', [PLAN]),
  both: letter('both', [...PICTURES, PLAN]),
  plain: letter('plain', []),
};

function server(dialect = {}): FakeServer {
  const fake = new FakeServer(dialect);
  const bear = { flags: FLAG_BITS.seen | FLAG_BITS.flagged, keywords: ['summer'], received: RECEIVED };
  fake.add('INBOX', 'inbox', [
    given(LETTERS['open day'], bear),
    given(LETTERS.plan, { received: RECEIVED }),
    given(LETTERS.both, { received: RECEIVED }),
    given(LETTERS.plain, { received: RECEIVED }),
  ]);
  fake.add('Trash', 'trash', []);
  return fake;
}

/** Saves files, so that they are checked, and has them taken out. */
async function stripped(mailbox: Mailbox, where = 'kind = picture', prepare = () => {}) {
  await saved(mailbox, where);
  return strip(mailbox, where, prepare);
}

async function saved(mailbox: Mailbox, where: string): Promise<void> {
  await mailbox.call('saveFiles', { place: 'here', where });
  await mailbox.work();
}

async function strip(mailbox: Mailbox, where: string, prepare = () => {}) {
  const lot = await mailbox.call('createLot', { fate: 'strip', where });
  prepare();
  return mailbox.run({ action: 'strip', lots: [lot.id] });
}

const isRewritten = ({ octets }: FakeMessage) => octets?.includes(NOTE_DESCRIPTION) ?? false;
const inFolder = (fake: FakeServer, path: string) =>
  fake
    .folder(path)
    .messages.map((message) => `${message.subject}${isRewritten(message) ? ' (without)' : ''}`)
    .sort();

test('files are taken out exactly; date, flags and keywords stay, and the original is in the trash', async () => {
  const fake = server();
  const mailbox = await Mailbox.open(fake);
  const run = await stripped(mailbox);
  assert.equal(run.state, 'done', JSON.stringify(run.problem));
  assert.deepEqual(inFolder(fake, 'INBOX'), ['both (without)', 'open day (without)', 'plain', 'plan']);
  assert.deepEqual(inFolder(fake, 'Trash'), ['both', 'open day']);
  assert.deepEqual(await mailbox.indexed(), mailbox.hosted);
  const fresh = fake.folder('INBOX').messages.find(({ subject }) => subject === 'open day') as FakeMessage;
  assert.deepEqual(
    [fresh.flags, fresh.keywords, fresh.received],
    [FLAG_BITS.seen | FLAG_BITS.flagged, ['summer'], RECEIVED],
  );
  assert.deepEqual(run.done, { messages: 2, bytes: LETTERS['open day'].length + LETTERS.both.length });
  const added = fake.folder('INBOX').messages.filter(isRewritten);
  assert.deepEqual(run.added, { messages: 2, bytes: added.reduce((sum, { size }) => sum + size, 0) });
  // What is outside the parts that went is there as it was, and the other file too.
  const both = (added.find(({ subject }) => subject === 'both') as FakeMessage).octets?.toString('latin1') as string;
  const old = LETTERS.both.toString('latin1');
  const first = old.indexOf('--=_edge\r\nContent-Type: image/jpeg') + '--=_edge\r\n'.length;
  const rest = old.slice(old.indexOf('\r\n--=_edge\r\nContent-Type: application/pdf'));
  assert.ok(both.startsWith(old.slice(0, first)));
  assert.ok(both.endsWith(rest));
  for (const { name, octets } of PICTURES) {
    assert.ok(both.includes(`name="${name}.txt"`));
    assert.ok(both.includes(createHash('sha256').update(octets).digest('hex')));
  }
  assert.ok(!both.includes('image/jpeg; name='));
});

test('what another program sets or removes on an original while its replacement is made is on the replacement', async () => {
  const { seen, flagged, answered } = FLAG_BITS;
  for (const dialect of [{}, { uidPlus: false }, { move: false }, { move: false, uidPlus: false }]) {
    const fake = server(dialect);
    const mailbox = await Mailbox.open(fake);
    const original = fake.folder('INBOX').messages.find(({ subject }) => subject === 'open day') as FakeMessage;
    const goes = fake.dialect.move ? 'MOVE' : 'COPY';
    await saved(mailbox, 'kind = picture');
    fake.after = (command) => {
      // After the replacement stands, and right before the original is moved; where it is copied, after that too.
      if (command === 'APPEND') original.flags = (original.flags & ~flagged) | answered;
      if (command === 'COPY') original.keywords = ['winter', 'later'];
    };
    fake.before = (command) => {
      if (command === goes) original.keywords = ['winter'];
    };
    const run = await strip(mailbox, 'kind = picture');
    assert.deepEqual([run.state, run.done.messages], ['done', 2], JSON.stringify(run.left));
    const fresh = fake.folder('INBOX').messages.find(({ subject }) => subject === 'open day') as FakeMessage;
    assert.ok(isRewritten(fresh));
    assert.deepEqual(
      [fresh.flags, fresh.keywords],
      [seen | answered, goes === 'MOVE' ? ['winter'] : ['later', 'winter']],
      JSON.stringify(dialect),
    );
  }
});

test('an original stays whose replacement another program deletes before it goes', async () => {
  const fake = server();
  const mailbox = await Mailbox.open(fake);
  await saved(mailbox, 'kind = picture');
  let appended = 0;
  fake.after = (command) => {
    if (command === 'APPEND') appended++;
  };
  fake.fetched = (records) => {
    const inbox = fake.folder('INBOX');
    const gone = inbox.messages.find((message) => isRewritten(message) && message.subject === 'both');
    if (appended < 2 || !gone) return records;
    inbox.messages = inbox.messages.filter((message) => message !== gone);
    return records.filter((record) => (record as { uid: number }).uid !== gone.uid);
  };
  const run = await strip(mailbox, 'kind = picture');
  assert.deepEqual(run.left, [{ reason: 'changed', messages: 1, bytes: LETTERS.both.length }]);
  assert.deepEqual(inFolder(fake, 'INBOX'), ['both', 'open day (without)', 'plain', 'plan']);
});

test('it is undone: the originals are back, and what stood in their place is in the trash', async () => {
  for (const dialect of [{}, { uidPlus: false }, { move: false }]) {
    const fake = server(dialect);
    const mailbox = await Mailbox.open(fake);
    const run = await stripped(mailbox);
    await mailbox.run({ action: 'restore', run: run.id });
    // The run that takes the replacements away was enqueued by the end of the other.
    await mailbox.work();
    assert.deepEqual(inFolder(fake, 'INBOX'), ['both', 'open day', 'plain', 'plan']);
    assert.deepEqual(inFolder(fake, 'Trash'), ['both (without)', 'open day (without)']);
    assert.deepEqual(await mailbox.indexed(), mailbox.hosted);
    const runs = (await mailbox.call('listRuns')).runs;
    assert.deepEqual(
      runs.map(({ action, state, agreement }: Record<string, string>) => [action, state, agreement]),
      [
        ['trash', 'done', 'agrees'],
        ['restore', 'done', 'agrees'],
        ['strip', 'done', 'agrees'],
      ],
    );
  }
});

test('only what was checked goes: not without a copy, nor a message that is another than was saved', async () => {
  const unchecked = await Mailbox.open(server());
  const without = await strip(unchecked, 'kind = picture');
  assert.deepEqual(
    without.left.map(({ reason, messages }) => [reason, messages]),
    [['unchecked', 2]],
  );
  assert.deepEqual(inFolder(unchecked.server, 'INBOX'), ['both', 'open day', 'plain', 'plan']);
  const half = await Mailbox.open(server());
  await saved(half, 'file = "open-day-01.jpg"');
  const some = await strip(half, 'kind = picture');
  assert.deepEqual(
    some.left.map(({ reason, messages }) => [reason, messages]),
    [['unchecked', 2]],
    'all files of a message or none',
  );
  const other = await Mailbox.open(server());
  const changed = await stripped(other, 'kind = picture', () => {
    const flip = (octets: Buffer) => {
      const at = octets.indexOf('base64\r\nContent-Disposition') + 400;
      const copy = Buffer.from(octets);
      copy[at] = copy[at] === 65 ? 66 : 65;
      return copy;
    };
    other.server.served = (octets, section) =>
      section === '' && !octets.includes(NOTE_DESCRIPTION) ? flip(octets) : octets;
  });
  assert.deepEqual(
    changed.left.map(({ reason }) => reason),
    ['differs'],
  );
  assert.deepEqual(inFolder(other.server, 'INBOX'), ['both', 'open day', 'plain', 'plan']);
});

test('a copy that fell on the disk does not count', async () => {
  const mailbox = await Mailbox.open(server());
  const run = await stripped(mailbox, 'kind = document', () => {
    const root = mailbox.context.archive.bag(mailbox.account.id, '').path;
    const [path = ''] = readdirSync(root, { recursive: true, encoding: 'utf8' }).filter((each) =>
      each.endsWith('.pdf'),
    );
    appendFileSync(join(root, path), '!');
  });
  assert.deepEqual(
    run.left.map(({ reason, messages }) => [reason, messages]),
    [['unchecked', 1]],
  );
});

test('what can’t be rewritten exactly is left, each with its reason', async () => {
  const fake = server();
  const sign = (subject: string, type: string) =>
    Buffer.from(letter(subject, PICTURES.slice(0, 1)).toString('latin1').replace('multipart/mixed', type), 'latin1');
  const inbox = fake.folder('INBOX');
  inbox.messages.length = 0;
  fake.add('Odd', null, [
    given(sign('signed', 'multipart/signed; protocol="application/pgp-signature"; micalg=pgp-sha256')),
    given(sign('alternative', 'multipart/alternative')),
    given(
      Buffer.from(
        letter('open end', PICTURES).toString('latin1').replace('--=_edge--\r\nNothing more.\r\n', ''),
        'latin1',
      ),
    ),
    given(letter('tiny', [{ name: 'dot.gif', octets: octetsOf(30, 9), type: 'image/gif' }])),
  ]);
  const mailbox = await Mailbox.open(fake);
  const run = await stripped(mailbox);
  assert.deepEqual(
    run.left.map(({ reason, messages }) => [reason, messages]),
    [
      ['alternative', 1],
      ['malformed', 1],
      ['no-gain', 1],
      ['signed', 1],
    ],
  );
  assert.deepEqual(inFolder(fake, 'Odd'), ['alternative', 'open end', 'signed', 'tiny']);
  assert.deepEqual(inFolder(fake, 'Trash'), []);
});

test('guards that ship let files be taken out, since the text stays; guards of the user’s own and holds do not', async () => {
  for (const [guard, left] of [
    [undefined, []],
    [{ kind: 'criteria', where: 'subject = both', reason: '' }, [['guarded', 1]]],
    [{ kind: 'hold', where: 'subject = both', years: 100, reason: 'law' }, [['held', 1]]],
  ] as const) {
    const mailbox = await Mailbox.open(server());
    await saved(mailbox, 'kind = picture');
    const lot = await mailbox.call('createLot', { fate: 'strip', where: 'kind = picture' });
    assert.equal(lot.textKept, 1, 'the flagged one would be kept from being deleted');
    const { id } = await mailbox.call('startRun', { action: 'strip', lots: [lot.id] });
    if (guard) await mailbox.call('createGuard', guard);
    await mailbox.work();
    const run = await mailbox.call('getRun', undefined, { run: `${id}` });
    assert.deepEqual(
      run.left.map(({ reason, messages }: { reason: string; messages: number }) => [reason, messages]),
      left,
    );
    assert.deepEqual(inFolder(mailbox.server, 'Trash'), guard ? ['open day'] : ['both', 'open day']);
  }
});

test('a flag does not keep the original in the trash as long as its text stands elsewhere', async () => {
  for (const isGone of [false, true]) {
    const mailbox = await Mailbox.open(server());
    const run = await stripped(mailbox);
    if (isGone) {
      const inbox = mailbox.server.folder('INBOX');
      inbox.messages = inbox.messages.filter(({ subject }) => subject !== 'open day');
      await mailbox.scan();
    }
    const purge = await mailbox.run({ action: 'purge', run: run.id });
    assert.deepEqual(purge.left, isGone ? [{ reason: 'guarded', messages: 1, bytes: LETTERS['open day'].length }] : []);
    assert.deepEqual(inFolder(mailbox.server, 'Trash'), isGone ? ['open day'] : []);
  }
});

test('killed before or after any command, no message is ever missing, and none is there twice at the end', async () => {
  for (const uidPlus of [true, false])
    for (const moment of ['before', 'after'] as const)
      for (let at = 1; at <= 4; at++) {
        const fake = server({ uidPlus });
        const mailbox = await Mailbox.open(fake);
        await saved(mailbox, 'kind = picture');
        const lot = await mailbox.call('createLot', { fate: 'strip', where: 'kind = picture' });
        let commands = 0;
        fake[moment] = () => {
          if (++commands === at) throw new MailProblem('connection-lost', 'killed');
        };
        const { id } = await mailbox.call('startRun', { action: 'strip', lots: [lot.id] });
        const name = `${moment} command ${at}, ${uidPlus ? 'with' : 'without'} UIDPLUS`;
        await mailbox.work().catch((error) => assert.match(`${error}`, /killed/, name));
        const everywhere = [...inFolder(fake, 'INBOX'), ...inFolder(fake, 'Trash')].map((each) =>
          each.replace(' (without)', ''),
        );
        for (const subject of Object.keys(LETTERS))
          assert.ok(everywhere.includes(subject), `${name}: ${subject} is there`);
        const run = await mailbox.call('getRun', undefined, { run: `${id}` });
        if (run.state !== 'done') await mailbox.work();
        assert.deepEqual(inFolder(fake, 'INBOX'), ['both (without)', 'open day (without)', 'plain', 'plan'], name);
        assert.deepEqual(inFolder(fake, 'Trash'), ['both', 'open day'], name);
      }
});

test('without room for a replacement the smallest go first, and the others say so', async () => {
  const fake = server({ quota: true });
  const mailbox = await Mailbox.open(fake);
  await saved(mailbox, 'kind = picture or kind = document');
  let free = 3_000;
  fake.free = () => free;
  fake.appended = (size) => {
    if (size > free) throw new MailProblem('no-room', 'The mailbox is full.');
    free -= size;
  };
  const run = await strip(mailbox, 'kind = picture');
  assert.deepEqual(
    run.left.map(({ reason, messages }) => [reason, messages]),
    [['no-room', 1]],
  );
  assert.deepEqual(inFolder(fake, 'INBOX'), ['both', 'open day (without)', 'plain', 'plan']);
});

test('a replacement that is not as it was sent is taken away again, and the original stays', async () => {
  const fake = server();
  const mailbox = await Mailbox.open(fake);
  const run = await stripped(mailbox, 'kind = document', () => {
    fake.served = (octets) => (octets.includes(NOTE_DESCRIPTION) ? Buffer.concat([octets, Buffer.from('!')]) : octets);
  });
  assert.deepEqual(
    run.left.map(({ reason }) => reason),
    ['differs'],
  );
  fake.served = (octets) => octets;
  await mailbox.work();
  assert.deepEqual(inFolder(fake, 'INBOX'), ['both', 'open day', 'plain', 'plan']);
  assert.deepEqual(inFolder(fake, 'Trash'), ['both (without)', 'plan (without)']);
});

test('the plan counts what is won, and a file once', async () => {
  const mailbox = await Mailbox.open(server());
  await mailbox.call('createLot', { fate: 'strip', where: 'kind = picture' });
  await mailbox.call('createLot', { fate: 'strip', where: 'file = "open-day-01.jpg" or kind = document' });
  const before = await mailbox.call('listLots');
  const [pictures, others] = before.lots;
  assert.deepEqual([pictures.messages, pictures.files, others.messages, others.files], [2, 4, 3, 4]);
  const sizes = (await mailbox.call('listFiles', undefined, {}, {})).files.map(
    ({ size }: { size: number }) => size - 800,
  );
  assert.equal(
    before.total.bytes,
    sizes.reduce((sum: number, size: number) => sum + size, 0),
  );
  assert.equal(before.total.messages, 3);
  await mailbox.call('createLot', { fate: 'trash', where: 'subject = both' });
  const after = await mailbox.call('listLots');
  const trash = after.lots[0];
  assert.deepEqual([trash.fate, trash.adds], ['trash', { messages: 1, bytes: LETTERS.both.length }]);
  const ofBoth = before.total.bytes - after.lots.slice(1).reduce((sum: number, { adds }: any) => sum + adds.bytes, 0);
  assert.equal(after.total.bytes, before.total.bytes - ofBoth + LETTERS.both.length);
  // The level falls by what the files have, and not by the messages that lose them.
  const level = await mailbox.call('getLevel');
  assert.deepEqual(level.plan, after.total);
  assert.deepEqual([level.after, level.afterMessages], [level.used - after.total.bytes, 3]);
});
