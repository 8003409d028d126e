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

const LETTER = 'The frost has burst the water butt behind the shed, and the tap at plot 14 drips all day.';
const quoted = (text: string) => text.replace(/^/gm, '> ');
const FIRST = `${LETTER}\r\n`;
const SECOND = `I saw it too, and it is worse than you say it is, by far.\r\n${quoted(FIRST)}`;
const THIRD = `Then let us mend it on Saturday.\r\n${quoted(SECOND)}`;

/** Messages of one thread, each answering the one before. */
function thread(texts: Record<string, string>, more: Record<string, Partial<Given>> = {}): Given[] {
  const identities = Object.keys(texts).map((subject) => `<${subject}@mail.example>`);
  return Object.entries(texts).map(([subject, text], n) => {
    const octets = Buffer.from(
      [
        'From: Odile Marchbanks <odile@mail.example>',
        `Subject: ${subject}`,
        `Message-ID: ${identities[n]}`,
        `Date: Sun, ${n + 1} Jan 2023 10:00:00 +0000`,
        '',
        text,
      ].join('\r\n'),
    );
    const sent = new Date(Date.UTC(2023, 0, n + 1, 10));
    return given(octets, {
      ...{ subject, sent, received: sent, inReplyTo: identities[n - 1] ?? '', references: identities.slice(0, n) },
      ...more[subject],
    });
  });
}

async function compared(mailbox: Mailbox): Promise<void> {
  await mailbox.call('compareRepeats', { what: 'threads' });
  await mailbox.work();
}

async function open(messages: Given[]): Promise<{ fake: FakeServer; mailbox: Mailbox }> {
  const fake = new FakeServer();
  fake.add('INBOX', 'inbox', messages);
  fake.add('Trash', 'trash', []);
  return { fake, mailbox: await Mailbox.open(fake) };
}

const told = async (mailbox: Mailbox) =>
  Object.fromEntries(
    (await mailbox.call('listEchoes')).echoes.map(({ subject, state, holder }: any) => [
      subject,
      `${state} in ${holder?.subject}`,
    ]),
  );

test('a message that a later one quotes in full can go, and what holds it stays', async () => {
  const { mailbox } = await open(thread({ first: FIRST, second: SECOND, third: THIRD, other: 'Nothing of that.\r\n' }));
  const { unread } = await mailbox.call('getRepeats');
  assert.equal(unread.threads.messages, 4);
  await compared(mailbox);
  assert.deepEqual(await told(mailbox), { first: 'goes in third', second: 'goes in third' });
  const { echoes, unread: left } = await mailbox.call('getRepeats');
  assert.deepEqual([echoes.threads, echoes.going.messages, left.threads.messages], [1, 2, 0]);
  const lot = await mailbox.call('createEchoLot', { expect: echoes.going });
  const run = await mailbox.run({ action: 'trash', lots: [lot.id] });
  assert.deepEqual([run.state, run.left], ['done', []]);
  assert.deepEqual(mailbox.hosted, { INBOX: ['other', 'third'], Trash: ['first', 'second'] });
});

test('where what holds it is marked, or goes, it stays', async () => {
  const letters = () => thread({ first: FIRST, second: SECOND, third: THIRD });
  const { mailbox } = await open(letters());
  await compared(mailbox);
  const echoes = await mailbox.call('createEchoLot', {});
  assert.equal(echoes.messages, 2);
  // The person marks the last one: what is held by nothing any more is taken out of the lot.
  await mailbox.call('createLot', { where: 'subject = third' });
  assert.equal((await mailbox.call('getLot', {}, { lot: `${echoes.id}` })).messages, 0);
  // Another program deletes it before the run, and the index does not know.
  const again = await open(letters());
  await compared(again.mailbox);
  const lot = await again.mailbox.call('createEchoLot', {});
  again.fake.folder('INBOX').messages.splice(2, 1);
  const run = await again.mailbox.run({ action: 'trash', lots: [lot.id] });
  assert.deepEqual([run.done.messages, run.left[0]?.reason], [0, 'last-copy']);
  assert.deepEqual(again.mailbox.hosted, { INBOX: ['first', 'second'], Trash: [] });
  // And where it knows, the plan is refused.
  await again.mailbox.scan();
  const known = await again.mailbox.call('getRepeats');
  assert.deepEqual([known.echoes.going.messages, known.broken], [1, 0]);
});

test('guards hold for it; a thread that grew is read again, one that did not is not', async () => {
  const letters = thread({ first: FIRST, second: SECOND, third: THIRD }, { first: { flags: FLAG_BITS.flagged } });
  const { fake, mailbox } = await open(letters);
  await compared(mailbox);
  assert.deepEqual(await told(mailbox), { first: 'guarded in third', second: 'goes in third' });
  let read = 0;
  fake.served = (octets) => {
    read++;
    return octets;
  };
  await compared(mailbox);
  assert.equal(read, 0);
  const grown = thread({
    first: FIRST,
    second: SECOND,
    third: THIRD,
    fourth: `So be it, on Saturday then.\r\n${quoted(THIRD)}`,
  });
  fake.put('INBOX', grown[3] as Given);
  await mailbox.scan();
  assert.equal((await mailbox.call('getRepeats')).unread.threads.messages, 4);
  await compared(mailbox);
  assert.deepEqual(await told(mailbox), {
    first: 'guarded in fourth',
    second: 'goes in fourth',
    third: 'goes in fourth',
  });
});

test('what is signed, cut off, gone or refused is told to hold nothing, and to be held by nothing', async () => {
  for (const served of [
    (octets: Buffer) => octets.subarray(0, -1),
    (octets: Buffer) => Buffer.concat([octets, Buffer.from('more')]),
    (octets: Buffer) =>
      Buffer.from(
        octets.toString('latin1').replace('Subject', 'Content-Type: multipart/signed; boundary=b\r\nSubject'),
      ),
  ]) {
    const { fake, mailbox } = await open(thread({ first: FIRST, second: SECOND }));
    fake.served = served;
    await compared(mailbox);
    assert.deepEqual(await told(mailbox), {});
  }
});

test('copies of conflicts are told by their twins, in folders and by keywords; what lies only there stays', async () => {
  const letters = (names: string[]) => names.flatMap((name) => thread({ [name]: `${LETTER} ${name}\r\n` }));
  const fake = new FakeServer();
  fake.add('INBOX', 'inbox', letters(['a', 'b', 'c']));
  fake.add('Sync/Konflikte', null, [...letters(['a', 'b']), ...letters(['only here'])]);
  fake.add(
    'Notes',
    null,
    letters(['c']).map((one) => ({ ...one, keywords: ['$Conflict'] })),
  );
  fake.add('Trash', 'trash', []);
  const mailbox = await Mailbox.open(fake);
  await mailbox.call('compareRepeats', {});
  await mailbox.work();
  const { folders, twins } = await mailbox.call('getRepeats');
  assert.deepEqual(
    folders.map(({ path, in: other, messages, both, going, conflicts }: any) => [
      path,
      other,
      messages,
      both,
      going.messages,
      conflicts,
    ]),
    [['Sync/Konflikte', null, 3, 2, 2, true]],
  );
  assert.equal(twins.going.messages, 3);
  const lot = await mailbox.call('createTwinLot', {});
  await mailbox.run({ action: 'trash', lots: [lot.id] });
  assert.deepEqual(mailbox.hosted, {
    INBOX: ['a', 'b', 'c'],
    'Sync/Konflikte': ['only here'],
    Notes: [],
    Trash: ['a', 'b', 'c'],
  });
});

test('no run of copies or of quoted messages takes the last of what was said, whatever is marked with it and taken by other programs', async () => {
  const TEXTS = 4;
  const FOLDERS = ['INBOX', 'Old'] as const;
  const message = fc.record({
    folders: fc.subarray([...FOLDERS], { minLength: 1 }),
    marked: fc.constantFrom('no', 'no', 'no', 'INBOX', 'Old'),
    gone: fc.constantFrom('no', 'no', 'no', 'known', 'unknown'),
    flagged: fc.constantFrom(false, false, false, true),
  });
  const plan = fc.record({
    messages: fc.array(message, { minLength: TEXTS, maxLength: TEXTS }),
    together: fc.boolean(),
    order: fc.shuffledSubarray(['createTwinLot', 'createEchoLot', 'marked'], { minLength: 3 }),
  });
  let taken = 0;
  await fc.assert(
    fc.asyncProperty(plan, async ({ messages, together, order }) => {
      // Each says something, and quotes all that was said before.
      let before = '';
      const texts = messages.map((_, n) => {
        before = `${LETTER} This is what number ${n} has to say.\r\n${before === '' ? '' : quoted(before)}`;
        return before;
      });
      const all = thread(Object.fromEntries(texts.map((text, n) => [`t${n}`, text])));
      const fake = new FakeServer();
      for (const folder of FOLDERS)
        fake.add(
          folder,
          folder === 'INBOX' ? 'inbox' : null,
          all.flatMap((one, n) =>
            messages[n]?.folders.includes(folder)
              ? [{ ...one, flags: messages[n]?.flagged ? FLAG_BITS.flagged : 0 }]
              : [],
          ),
        );
      fake.add('Trash', 'trash', []);
      const mailbox = await Mailbox.open(fake);
      await mailbox.call('compareRepeats', {});
      await mailbox.work();
      await compared(mailbox);
      const there = () =>
        new Set(FOLDERS.flatMap((folder) => fake.folder(folder).messages.map(({ subject }) => subject)));
      /** Texts that can still be read: of the message itself, or of one that quotes it. */
      const said = () => {
        const last = Math.max(-1, ...[...there()].map((subject) => Number(subject.slice(1))));
        return Array.from({ length: TEXTS }, (_, n) => n).filter((n) => n <= last);
      };
      const remove = (when: string) => {
        for (const [n, { gone }] of messages.entries()) {
          if (gone !== when) continue;
          const { messages: here } = fake.folder(FOLDERS[n % 2] as string);
          const place = here.findIndex(({ subject }) => subject === `t${n}`);
          if (place >= 0) here.splice(place, 1);
        }
      };
      const { rows } = await mailbox.database.query(
        'select p.id, m.subject, f.path from placement p join message m on m.id = p.message join folder f on f.id = p.folder',
      );
      const marked = rows
        .filter(({ subject, path }) => messages[Number(subject.slice(1))]?.marked === path)
        .map(({ id }) => Number(id));
      const lots: number[] = [];
      for (const what of order) {
        if (what !== 'marked') {
          const made = await mailbox.call(what, {}).catch((error: { type?: string }) => {
            if (error.type !== 'invalid') throw error;
            return undefined;
          });
          if (made) lots.push(made.id);
        } else if (marked.length > 0) await mailbox.call('createLot', { ids: marked });
      }
      remove('known');
      await mailbox.scan();
      remove('unknown');
      const held = said();
      fake.before = (command, uids) => {
        if (command === 'MOVE') taken += [...numbersOf(uids)].length;
      };
      for (const some of together ? [lots] : lots.map((lot) => [lot])) {
        if (some.length === 0) continue;
        const run = () => mailbox.run({ action: 'trash', lots: some });
        await run()
          .catch(async (error: { type?: string }) => {
            if (error.type !== 'would-take-last') throw error;
            await mailbox.call('tellApartAgain');
            return run();
          })
          .catch((error: { type?: string }) => {
            if (error.type !== 'nothing-to-do') throw error;
          });
      }
      assert.deepEqual(said(), held, 'all that could be read can be read');
    }),
    { numRuns: 15, endOnFailure: true },
  );
  assert.ok(taken > 4, `${taken} messages were taken`);
});
