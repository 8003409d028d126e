import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import fc from 'fast-check';
import { FLAG_BITS } from '../../src/core/mailbox/flags';
import { numbersOf } from '../../src/core/sets/ranges';
import { cleanUp } from '../harness';
import { FakeServer, type Given } from './fake-server';
import { given } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

/** A message of some subject as text, with fields of its own in front. */
function message(subject: string, { top = '', text = 'As agreed.', id = `<${subject}@mail.example>` } = {}): Buffer {
  const lines = [
    ...(top === '' ? [] : [top]),
    'From: Odile Marchbanks <odile@mail.example>',
    'To: tern@mail.example',
    `Subject: ${subject}`,
    `Message-ID: ${id}`,
    'Date: Sun, 6 Aug 2023 10:00:00 +0000',
    '',
    text,
    '',
  ];
  return Buffer.from(lines.join('\r\n'), 'latin1');
}

const at = (octets: Buffer, more: Partial<Given> = {}) =>
  given(octets, { subject: /^Subject: (.*)\r$/m.exec(octets.toString('latin1'))?.[1] ?? '', ...more });

/** The same messages in the inbox and in another folder. */
function inTwo(fake: FakeServer, messages: () => Given[]): void {
  fake.add('INBOX', 'inbox', messages());
  fake.add('Old', null, messages());
  fake.add('Trash', 'trash', []);
}

async function compared(mailbox: Mailbox, budget?: number): Promise<void> {
  await mailbox.call('compareRepeats', budget === undefined ? {} : { budget });
  await mailbox.work();
}

test('copies are told by reading them, and how they are the same; what only looks alike is none', async () => {
  const fake = new FakeServer();
  fake.add('INBOX', 'inbox', [
    at(message('octets')),
    at(message('transport'), { flags: FLAG_BITS.answered }),
    at(message('content')),
    at(message('other text')),
    at(message('without', { id: '' })),
    at(message('alone')),
  ]);
  fake.add('Minutes', null, [
    at(message('octets'), { received: new Date('2023-08-06T09:00:00Z') }),
    at(message('other text', { text: 'As agreed!' })),
  ]);
  fake.add('Sent', 'sent', [at(message('content', { top: 'Bcc: piers@mail.example' }))]);
  fake.add('Old', null, [
    at(message('octets')),
    at(message('transport', { top: 'Received: from a by b;\r\n\tlong ago' })),
    at(message('without', { id: '' })),
  ]);
  fake.add('Trash', 'trash', [at(message('alone'))]);
  const mailbox = await Mailbox.open(fake);
  const before = await mailbox.call('getRepeats');
  assert.deepEqual(before.twins, { groups: 0, going: { messages: 0, bytes: 0 } }, 'nothing is told unread');
  assert.deepEqual([before.candidates.groups, before.candidates.unread.messages], [5, 11]);
  await compared(mailbox);
  const { candidates, twins, proofs, broken } = await mailbox.call('getRepeats');
  assert.deepEqual([candidates.different, candidates.unread, broken], [1, { messages: 0, bytes: 0 }, 0]);
  assert.deepEqual([proofs[0].state, proofs[0].done], ['done', before.candidates.unread]);
  const { groups } = await mailbox.call('listTwins');
  assert.equal(groups.length, twins.groups);
  const told = Object.fromEntries(
    groups.map(({ subject, copies }: any) => [
      subject,
      copies.map(({ folder, state, why, same }: any) => [folder, state, why ?? same].join(' ')).sort(),
    ]),
  );
  assert.deepEqual(told, {
    octets: ['INBOX goes octets', 'Minutes stays earliest', 'Old goes octets'],
    transport: ['INBOX stays answered', 'Old goes transport'],
    content: ['INBOX goes content', 'Sent stays folder'],
    without: ['INBOX goes octets', 'Old stays folder'],
  });
  // The person says that it is the earliest, or the other folder.
  mailbox.account.settings.keepRules = ['earliest', 'answered', 'flagged', 'guarded', 'folder'];
  const [first] = (await mailbox.call('listTwins')).groups[0].copies;
  assert.deepEqual([first.state, first.why], ['stays', 'earliest']);
  assert.deepEqual((await mailbox.call('getRepeats')).folders, [], 'so few may be chance');
});

test('no more is read than was said, those first from which most is won; what was read is not read again', async () => {
  const fake = new FakeServer();
  const names = ['a', 'b', 'c', 'd'];
  const read: number[] = [];
  fake.served = (octets) => {
    read.push(octets.length);
    return octets;
  };
  inTwo(fake, () => names.map((name, index) => at(message(name, { text: 'x'.repeat(1_000 * (index + 1)) }))));
  const mailbox = await Mailbox.open(fake);
  const sizes = () => [...new Set(read.splice(0).map((octets) => Math.round(octets / 1_000)))].sort();
  sizes();
  await compared(mailbox, 9_000);
  assert.deepEqual(sizes(), [4], 'the largest pair fits');
  await compared(mailbox, 1);
  assert.deepEqual(sizes(), [3], 'one pair in any case');
  await compared(mailbox);
  assert.deepEqual(sizes(), [1, 2]);
  await compared(mailbox);
  assert.deepEqual(sizes(), []);
  assert.equal((await mailbox.call('getRepeats')).twins.groups, 4);
});

test('what the server says is one message by its EMAILID (RFC 8474) is a copy unread, beside copies that were read', async () => {
  const fake = new FakeServer();
  const one = message('one');
  fake.add('INBOX', 'inbox', [at(one, { emailId: 'M1' }), at(message('two'), { emailId: 'M2' })]);
  fake.add('Label', null, [at(one, { emailId: 'M1' })]);
  fake.add('Old', null, [at(message('two'), { emailId: 'M3' }), at(message('two'), { emailId: 'M3' })]);
  fake.add('Trash', 'trash', []);
  const mailbox = await Mailbox.open(fake);
  const told = async () => {
    const { groups } = await mailbox.call('listTwins');
    return groups
      .map(({ subject, copies }: any) => [subject, ...copies.map(({ same }: any) => same ?? 'stays').sort()].join(' '))
      .sort();
  };
  assert.deepEqual(await told(), ['one server stays', 'two server stays']);
  assert.equal((await mailbox.call('getRepeats')).candidates.unread.messages, 2, 'one of each message is read');
  await compared(mailbox);
  assert.deepEqual(await told(), ['one server stays', 'two octets server stays']);
  const lot = await mailbox.call('createTwinLot', {});
  const run = await mailbox.run({ action: 'trash', lots: [lot.id] });
  assert.deepEqual([run.state, run.left, run.done.messages], ['done', [], 3]);
  assert.deepEqual(mailbox.hosted, { INBOX: [], Label: ['one'], Old: ['two'], Trash: ['one', 'two', 'two'] });
});

test('what is cut off, gone or refused proves nothing', async () => {
  const fake = new FakeServer();
  const names = ['cut', 'gone', 'whole'];
  inTwo(fake, () => names.map((name) => at(message(name))));
  const mailbox = await Mailbox.open(fake);
  fake.served = (octets) => (octets.includes('Subject: cut') ? octets.subarray(0, -1) : octets);
  fake.folder('Old').messages = fake.folder('Old').messages.filter(({ subject }) => subject !== 'gone');
  await compared(mailbox);
  const { groups } = await mailbox.call('listTwins');
  assert.deepEqual(
    groups.map(({ subject }: { subject: string }) => subject),
    ['whole'],
  );
  assert.equal((await mailbox.call('getRepeats')).candidates.different, 1);
});

test('a folder that repeats another is told, with what lies there alone; its copies go, and the others stay', async () => {
  const fake = new FakeServer();
  const names = Array.from({ length: 20 }, (_, index) => `m${index}`);
  fake.add('INBOX', 'inbox', []);
  fake.add(
    'Archive/2019',
    null,
    [...names, 'x', 'y', 'z'].map((name) => at(message(name))),
  );
  fake.add(
    'From the old computer',
    null,
    [...names.slice(0, 18), 'only here', 'too'].map((name) => at(message(name))),
  );
  fake.add('Trash', 'trash', []);
  const mailbox = await Mailbox.open(fake);
  await compared(mailbox);
  const { folders } = await mailbox.call('getRepeats');
  const [{ going, ...folder }] = folders;
  assert.deepEqual(folder, {
    path: 'From the old computer',
    in: 'Archive/2019',
    messages: 20,
    both: 18,
    conflicts: false,
  });
  assert.deepEqual([folders.length, going.messages], [1, 18]);
  const { ids } = await mailbox.call('listAlone', {}, {}, { folder: folder.path, in: folder.in });
  const { rows } = await mailbox.database.query(
    'select m.subject from placement p join message m on m.id = p.message where p.id = any($1) order by 1',
    [ids],
  );
  assert.deepEqual(
    rows.map(({ subject }) => subject),
    ['only here', 'too'],
  );
  const lot = await mailbox.call('createTwinLot', { folder: folder.path, expect: going });
  assert.deepEqual([lot.messages, lot.bytes], [going.messages, going.bytes]);
  assert.equal((await mailbox.call('getRepeats')).twins.going.messages, 0, 'they are marked');
  const run = await mailbox.run({ action: 'trash', lots: [lot.id], expect: going });
  assert.deepEqual([run.state, run.left], ['done', []]);
  assert.deepEqual(mailbox.hosted['From the old computer'], ['only here', 'too']);
  assert.equal(mailbox.hosted['Archive/2019']?.length, 23);
  await assert.rejects(mailbox.call('createTwinLot', {}), { title: /.*/ });
});

test('where another lot takes the copy that was to stay, another one stays; a plan that would take the last is refused', async () => {
  const fake = new FakeServer();
  fake.add(
    'INBOX',
    'inbox',
    ['a', 'b'].map((name) => at(message(name))),
  );
  fake.add(
    'Filed',
    null,
    ['a', 'b'].map((name) => at(message(name))),
  );
  fake.add('Trash', 'trash', []);
  const mailbox = await Mailbox.open(fake);
  await compared(mailbox);
  const copies = await mailbox.call('createTwinLot', {});
  assert.equal(copies.messages, 2);
  const idsOf = async (folder: string) => {
    const { rows } = await mailbox.database.query(
      'select p.id from placement p join folder f on f.id = p.folder where f.path = $1 and p.gone_at is null order by p.id',
      [folder],
    );
    return rows.map(({ id }) => Number(id));
  };
  const [first, second] = await idsOf('Filed');
  const other = await mailbox.call('createLot', { ids: [first] });
  assert.deepEqual((await mailbox.call('getLot', {}, { lot: `${copies.id}` })).messages, 1, 'the copy of a stays now');
  // The lot that was made first does not give way; who takes the exception back gets it again.
  await mailbox.call('changeLot', { except: [] }, { lot: `${copies.id}` });
  assert.equal((await mailbox.call('getLot', {}, { lot: `${copies.id}` })).messages, 1);
  // Another program takes what was to stay, and the index learns it.
  const filed = fake.folder('Filed');
  filed.messages = filed.messages.filter(({ subject }) => subject !== 'b');
  await mailbox.scan();
  assert.ok(second);
  assert.equal((await mailbox.call('getRepeats')).broken, 1);
  await assert.rejects(mailbox.run({ action: 'trash', lots: [copies.id] }), { type: 'would-take-last' });
  assert.deepEqual(await mailbox.call('tellApartAgain'), { messages: 1 });
  assert.equal((await mailbox.call('getRepeats')).broken, 0);
  await assert.rejects(mailbox.run({ action: 'trash', lots: [copies.id] }), { type: 'nothing-to-do' });
  assert.equal((await mailbox.run({ action: 'trash', lots: [other.id] })).state, 'done');
  assert.deepEqual(mailbox.hosted, { INBOX: ['a', 'b'], Filed: [], Trash: ['a'] });
});

test('no run ever takes the last copy, whatever lies where, is flagged, is marked by hand, and is taken by other programs', async () => {
  const FOLDERS = ['INBOX', 'Filed', 'Old', 'Sent'] as const;
  const ROLES = { INBOX: 'inbox', Filed: null, Old: null, Sent: 'sent' } as const;
  const copy = fc.record({
    folder: fc.constantFrom(...FOLDERS),
    flags: fc.constantFrom(0, 0, 0, FLAG_BITS.flagged, FLAG_BITS.answered),
  });
  const group = fc.record({
    copies: fc.array(copy, { minLength: 1, maxLength: 4 }),
    /** Which copies another lot takes, and which another program takes: before the runs begin, or while they go on. */
    marked: fc.array(fc.nat(3), { maxLength: 2 }),
    gone: fc.array(fc.nat(3), { maxLength: 1 }),
    when: fc.constantFrom('known' as const, 'unknown' as const, 'during' as const),
  });
  let [taken, left] = [0, 0];
  await fc.assert(
    fc.asyncProperty(fc.array(group, { minLength: 10, maxLength: 20 }), fc.boolean(), async (groups, twinsFirst) => {
      const fake = new FakeServer();
      for (const folder of FOLDERS)
        fake.add(
          folder,
          ROLES[folder],
          groups.flatMap(({ copies }, number) =>
            copies.flatMap((one, index) =>
              one.folder === folder
                ? [
                    at(message(`g${number}`, { top: `Received: ${index}` }), {
                      flags: one.flags,
                      subject: `g${number}.${index}`,
                    }),
                  ]
                : [],
            ),
          ),
        );
      fake.add('Trash', 'trash', []);
      const mailbox = await Mailbox.open(fake);
      await compared(mailbox);
      const outside = (number: number) =>
        FOLDERS.flatMap((folder) =>
          fake.folder(folder).messages.filter(({ subject }) => subject.startsWith(`g${number}.`)),
        );
      const remove = (number: number, index: number) => {
        // Other programs leave one, too: what is held here is what runs do.
        if (outside(number).length < 2) return;
        for (const folder of FOLDERS) {
          const { messages } = fake.folder(folder);
          const place = messages.findIndex(({ subject }) => subject === `g${number}.${index}`);
          if (place >= 0) messages.splice(place, 1);
        }
      };
      const { rows } = await mailbox.database.query(
        'select p.id, m.subject from placement p join message m on m.id = p.message',
      );
      const ids = new Map(rows.map(({ id, subject }) => [subject as string, Number(id)]));
      const marked = groups.flatMap(({ marked: some }, number) =>
        some.flatMap((index) => ids.get(`g${number}.${index}`) ?? []),
      );
      const lots: number[] = [];
      const twinLot = async () => {
        if ((await mailbox.call('getRepeats')).twins.going.messages === 0) return;
        lots.push((await mailbox.call('createTwinLot', {})).id);
      };
      if (twinsFirst) await twinLot();
      if (marked.length > 0)
        lots.push((await mailbox.call('createLot', { ids: [...new Set(marked)] }).catch(() => ({ id: 0 }))).id);
      if (!twinsFirst) await twinLot();
      for (const [number, { gone, when }] of groups.entries())
        if (when === 'known') for (const index of gone) remove(number, index);
      await mailbox.scan();
      for (const [number, { gone, when }] of groups.entries())
        if (when === 'unknown') for (const index of gone) remove(number, index);
      // What ordinary lots take was said by hand; a run of copies must leave one of each.
      const byTwins = new Set<string>();
      let isOfTwins = false;
      let calls = 0;
      fake.before = (command, uids) => {
        if (command !== 'MOVE') return;
        if (++calls === 1)
          for (const [number, { gone, when }] of groups.entries())
            if (when === 'during') for (const index of gone) if (!isOfTwins) remove(number, index);
        if (!isOfTwins) return;
        const moving = new Set(numbersOf(uids));
        const here = fake.folder(fake.opened as string).messages.filter(({ uid }) => moving.has(uid));
        for (const { subject } of here) {
          taken++;
          byTwins.add(subject.split('.')[0] as string);
        }
        for (const name of new Set(here.map(({ subject }) => subject.split('.')[0] as string))) {
          const stays = outside(Number(name.slice(1))).filter((one) => !here.includes(one));
          assert.ok(stays.length > 0, `${name} has a copy that stays`);
        }
      };
      for (const lot of lots.filter(Boolean)) {
        const held = await mailbox.database.query('select promise from lot where id = $1', [lot]);
        isOfTwins = held.rows[0].promise === 'twins';
        const run = () => mailbox.run({ action: 'trash', lots: [lot] });
        const done = await run()
          .catch(async (error: { type?: string }) => {
            if (error.type !== 'would-take-last') throw error;
            await mailbox.call('tellApartAgain');
            return run();
          })
          .catch((error: { type?: string }) => {
            if (error.type === 'nothing-to-do') return undefined;
            throw error;
          });
        left += done?.left.reduce((sum, { reason, messages }) => sum + (reason === 'last-copy' ? messages : 0), 0) ?? 0;
      }
      for (const name of byTwins) assert.ok(outside(Number(name.slice(1))).length > 0, `${name} is not lost`);
    }),
    // A failure is told as it is: making it smaller takes minutes.
    { numRuns: 15, endOnFailure: true },
  );
  assert.ok(taken > 30, `${taken} copies were taken`);
  assert.ok(left > 0, 'some were left, since they would have been the last');
});
