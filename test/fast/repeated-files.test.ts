import assert from 'node:assert/strict';
import { createHash } from 'node:crypto';
import { after, test } from 'node:test';
import fc from 'fast-check';
import { FLAG_BITS } from '../../src/core/mailbox/flags';
import { NOTE_DESCRIPTION } from '../../src/core/mime/note';
import { numbersOf } from '../../src/core/sets/ranges';
import { photograph } from '../../stand-in/files/photograph';
import { cleanUp } from '../harness';
import { FakeServer, type Given } from './fake-server';
import { given, letter, octetsOf } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

const CATALOGUE = { name: 'catalogue.pdf', type: 'application/pdf', octets: octetsOf(60_000, 1) };
/** As long, and other octets. */
const OTHER = { ...CATALOGUE, octets: octetsOf(60_000, 2) };
const SMALL = { name: 'logo.png', type: 'image/png', octets: octetsOf(2_000, 3) };

const day = (date: number) => new Date(Date.UTC(2023, 7, date, 10));
const at = (subject: string, octets: Buffer, date: number, more: Partial<Given> = {}) =>
  given(octets, { subject, sent: day(date), received: day(date), ...more });

/** The same file in lines of 60 characters, as some programs write it. */
const inShortLines = (octets: Buffer) =>
  Buffer.from(
    octets
      .toString('latin1')
      .replace(/(?<=\r\n\r\n)[A-Za-z0-9+/=\r\n]{1000,}(?=\r\n--)/g, (body) =>
        body.replace(/\r\n/g, '').replace(/.{60}/g, '$&\r\n'),
      ),
    'latin1',
  );

function server(): FakeServer {
  const fake = new FakeServer();
  fake.add('INBOX', 'inbox', [
    at('spring', letter('spring', [CATALOGUE, SMALL]), 1),
    at('summer', inShortLines(letter('summer', [CATALOGUE])), 2),
    at('another', letter('another', [OTHER]), 3),
    at('logo', letter('logo', [SMALL]), 4),
  ]);
  fake.add('Offers', null, [at('autumn', letter('autumn', [CATALOGUE]), 5)]);
  fake.add('Trash', 'trash', [at('old', letter('old', [CATALOGUE]), 6)]);
  return fake;
}

async function compared(mailbox: Mailbox, what = 'files'): Promise<void> {
  await mailbox.call('compareRepeats', { what });
  await mailbox.work();
}

/** Octets of a letter as it is now, by its subject. */
const textOf = (fake: FakeServer, path: string, subject: string) =>
  fake
    .folder(path)
    .messages.find((message) => message.subject === subject)
    ?.octets?.toString('latin1') ?? '';
const hasFile = (text: string) => text.includes('catalogue.pdf"\r\nContent-Transfer-Encoding: base64');

test('the same file is told by its octets, however its lines are long; one stays, and the line in its place names it', async () => {
  const fake = server();
  const mailbox = await Mailbox.open(fake);
  const { unread } = await mailbox.call('getRepeats');
  assert.equal(unread.files.files, 4, 'what is as long, or has the name, is read; small files, and the trash, are not');
  await compared(mailbox);
  const { files } = await mailbox.call('getRepeats');
  assert.deepEqual([files.groups, files.going.files], [1, 2]);
  const [group] = (await mailbox.call('listRepeatedFiles')).groups;
  assert.equal(group.sha256, createHash('sha256').update(CATALOGUE.octets).digest('hex'));
  assert.deepEqual(
    group.copies.map(({ subject, state, why }: Record<string, string>) => [subject, state, why]),
    [
      ['autumn', 'stays', 'latest'],
      ['spring', 'goes', undefined],
      ['summer', 'goes', undefined],
    ],
  );
  const lot = await mailbox.call('createFileLot', { expect: files.going });
  assert.deepEqual([lot.fate, lot.files, lot.unchecked], ['strip', 2, 0]);
  assert.equal((await mailbox.call('getRepeats')).files.going.files, 0, 'what is in the plan is not offered again');
  const run = await mailbox.run({ action: 'strip', lots: [lot.id] });
  assert.deepEqual([run.state, run.left, run.done.messages], ['done', [], 2]);
  for (const subject of ['spring', 'summer']) {
    const text = textOf(fake, 'INBOX', subject);
    assert.ok(!hasFile(text) && text.includes(NOTE_DESCRIPTION), subject);
    const note = text.replace(/=\r\n/g, '');
    assert.match(
      note,
      /Copy: the same file is in the message =E2=80=9Cautumn=E2=80=9D from Odile Marchbanks of 2023-08-05, Message-ID <autumn@mail\.example>/,
    );
    assert.ok(note.includes(group.sha256));
  }
  assert.ok(textOf(fake, 'INBOX', 'spring').includes('logo.png'), 'the other file of the message stays');
  assert.ok(textOf(fake, 'Offers', 'autumn').includes(NOTE_DESCRIPTION) === false);
  // Undone, they are there again.
  await mailbox.run({ action: 'restore', run: run.id });
  await mailbox.work();
  assert.ok(hasFile(textOf(fake, 'INBOX', 'spring')));
  assert.deepEqual(await mailbox.indexed(), mailbox.hosted);
});

test('where what was to stay is marked, or goes, another one stays; where none is left, the file stays', async () => {
  const fake = server();
  const mailbox = await Mailbox.open(fake);
  await compared(mailbox);
  const files = await mailbox.call('createFileLot', {});
  assert.equal(files.files, 2);
  // Another lot takes the message that was to keep it: one of the two files stays.
  await mailbox.call('createLot', { where: 'folder = Offers' });
  assert.equal((await mailbox.call('getLot', {}, { lot: `${files.id}` })).files, 1);
  assert.equal((await mailbox.call('getRepeats')).broken, 0);
  // A third lot takes the message of the other one: the plan can't take all three.
  await mailbox.call('createLot', { where: 'folder = INBOX and subject ~ summer' });
  assert.equal((await mailbox.call('getLot', {}, { lot: `${files.id}` })).files, 0, 'the last one stays');
  assert.equal((await mailbox.call('getRepeats')).broken, 0);
  await assert.rejects(mailbox.run({ action: 'strip', lots: [files.id] }), { type: 'nothing-to-do' });
});

test('a run takes no file out whose other one has gone from the server, known or not', async () => {
  for (const isKnown of [true, false]) {
    const fake = server();
    const mailbox = await Mailbox.open(fake);
    await compared(mailbox);
    const lot = await mailbox.call('createFileLot', {});
    fake.folder('Offers').messages.splice(0);
    if (isKnown) {
      await mailbox.scan();
      assert.equal((await mailbox.call('getRepeats')).broken, 1);
      await assert.rejects(mailbox.run({ action: 'strip', lots: [lot.id] }), { type: 'would-take-last' });
      assert.deepEqual(await mailbox.call('tellApartAgain'), { messages: 1 });
    }
    const run = await mailbox.run({ action: 'strip', lots: [lot.id] });
    const inInbox = ['spring', 'summer'].filter((subject) => hasFile(textOf(fake, 'INBOX', subject)));
    if (isKnown) assert.deepEqual([run.done.messages, inInbox.length], [1, 1]);
    else assert.deepEqual([run.done.messages, run.left[0]?.reason, inInbox.length], [0, 'last-copy', 2]);
  }
});

test('one of each is archived, and all are taken out', async () => {
  const fake = server();
  const mailbox = await Mailbox.open(fake);
  await compared(mailbox);
  const lot = await mailbox.call('createFileLot', { keep: 'none' });
  assert.deepEqual([lot.files, lot.unchecked], [3, 1], 'one copy will do for all three');
  await mailbox.call('saveFiles', { place: 'here', lots: [lot.id] });
  await mailbox.work();
  const [bag] = (await mailbox.call('listBags')).bags;
  assert.equal(bag.checked.files, 1);
  assert.equal((await mailbox.call('getLot', {}, { lot: `${lot.id}` })).unchecked, 0);
  const run = await mailbox.run({ action: 'strip', lots: [lot.id] });
  assert.deepEqual([run.done.messages, run.left], [3, []]);
  for (const [path, subject] of [
    ['INBOX', 'spring'],
    ['INBOX', 'summer'],
    ['Offers', 'autumn'],
  ] as const)
    assert.ok(/Copy: Tamsel's archive/.test(textOf(fake, path, subject).replace(/=\r\n/g, '')), subject);
  assert.ok(hasFile(textOf(fake, 'INBOX', 'another')), 'what only looks alike stays');
});

test('what is cut off, gone or refused proves nothing of a file', async () => {
  for (const served of [
    (octets: Buffer) => octets.subarray(0, -40),
    (octets: Buffer) => Buffer.concat([octets, octets]),
  ]) {
    const fake = server();
    const mailbox = await Mailbox.open(fake);
    fake.served = (octets, section) => (section === '' ? octets : served(octets));
    await compared(mailbox);
    const { files, unread } = await mailbox.call('getRepeats');
    assert.deepEqual([files.groups, unread.files.files], [0, 0]);
  }
});

test('a protected message keeps its file; guards that protect what is written do not keep a file from going', async () => {
  const fake = server();
  for (const message of fake.folder('INBOX').messages) message.flags |= FLAG_BITS.flagged;
  const mailbox = await Mailbox.open(fake);
  await compared(mailbox);
  assert.equal((await mailbox.call('getRepeats')).files.going.files, 2, 'one of three stays in any case');
  await mailbox.call('createGuard', { kind: 'criteria', where: 'subject ~ summer' });
  const { groups } = await mailbox.call('listRepeatedFiles');
  assert.deepEqual(
    groups[0].copies.map(({ subject, state, why }: Record<string, string>) => [subject, state, why]),
    [
      ['summer', 'stays', 'guarded'],
      ['spring', 'goes', undefined],
      ['autumn', 'goes', undefined],
    ],
  );
});

test('no run ever takes the last of a file, whatever other lots take and other programs delete', async () => {
  const FILES = [1, 2, 3].map((seed) => ({ ...CATALOGUE, name: `file-${seed}.pdf`, octets: octetsOf(50_000, seed) }));
  const one = fc.record({
    files: fc.uniqueArray(fc.nat(2), { minLength: 1, maxLength: 2 }),
    folder: fc.constantFrom('INBOX', 'Offers'),
    marked: fc.constantFrom('no', 'no', 'no', 'trash'),
    gone: fc.constantFrom('no', 'no', 'no', 'known', 'unknown', 'during'),
  });
  let [taken, left] = [0, 0];
  await fc.assert(
    fc.asyncProperty(fc.array(one, { minLength: 4, maxLength: 9 }), fc.boolean(), async (letters, filesFirst) => {
      const fake = new FakeServer();
      for (const folder of ['INBOX', 'Offers'])
        fake.add(
          folder,
          folder === 'INBOX' ? 'inbox' : null,
          letters.flatMap(({ files, folder: own }, n) =>
            own === folder
              ? [
                  at(
                    `m${n}`,
                    letter(
                      `m${n}`,
                      files.map((file) => FILES[file] as (typeof FILES)[number]),
                    ),
                    n + 1,
                  ),
                ]
              : [],
          ),
        );
      fake.add('Trash', 'trash', []);
      const mailbox = await Mailbox.open(fake);
      await compared(mailbox).catch(() => undefined);
      const outside = () => [...fake.folder('INBOX').messages, ...fake.folder('Offers').messages];
      const has = (n: number) =>
        outside().filter(({ octets }) =>
          octets?.includes(`name="file-${n + 1}.pdf"\r\nContent-Transfer-Encoding: base64`),
        );
      const before = FILES.map((_, n) => has(n).length);
      const remove = (when: string) => {
        for (const [n, { gone, files }] of letters.entries()) {
          // Other programs leave one too: what is held here is what runs do.
          if (gone !== when || files.some((file) => has(file).length < 2)) continue;
          for (const folder of ['INBOX', 'Offers']) {
            const { messages } = fake.folder(folder);
            const place = messages.findIndex(({ subject }) => subject === `m${n}`);
            if (place >= 0) messages.splice(place, 1);
          }
        }
      };
      const { rows } = await mailbox.database.query(
        'select p.id, m.id as message, m.subject from placement p join message m on m.id = p.message',
      );
      const idOf = new Map(rows.map(({ id, subject }) => [subject as string, Number(id)]));
      const trashed = letters.flatMap(({ marked }, n) => (marked === 'trash' ? [idOf.get(`m${n}`) as number] : []));
      let promised = 0;
      const mark = async () => {
        if ((await mailbox.call('getRepeats')).files.going.files > 0)
          promised = (await mailbox.call('createFileLot', {})).id;
      };
      if (filesFirst) await mark();
      if (trashed.length > 0) await mailbox.call('createLot', { ids: trashed });
      if (!filesFirst) await mark();
      remove('known');
      await mailbox.scan();
      remove('unknown');
      if (promised === 0) return;
      const held = FILES.map((_, n) => has(n).length);
      let calls = 0;
      fake.before = (command, uids) => {
        if (command === 'APPEND' && ++calls === 1) remove('during');
        if (command === 'MOVE') taken += [...numbersOf(uids)].length;
      };
      const run = () => mailbox.run({ action: 'strip', lots: [promised] });
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
      for (const [n, number] of held.entries())
        if (number > 0) assert.ok(has(n).length > 0, `file ${n} is not lost (${before[n]} at first)`);
    }),
    { numRuns: 15, endOnFailure: true },
  );
  assert.ok(taken > 4, `${taken} messages lost a file`);
  assert.ok(left > 0, 'some were left, since they would have been the last');
});

test('pictures nearly alike are told, the sharpest is proposed, and nothing goes that was not named; one of each stays', async () => {
  const take = (n: number, octets: number) => ({
    name: `IMG_${n}.jpg`,
    octets: photograph(n, octets, { view: 4, take: n }),
  });
  const other = { name: 'IMG_9.jpg', octets: photograph(9, 90_000, { view: 7, take: 1 }) };
  const fake = new FakeServer();
  fake.add('INBOX', 'inbox', [
    at('evening', letter('evening', [take(1, 90_000), take(2, 400_000), other]), 1),
    at('evening too', letter('evening too', [take(3, 120_000)]), 1, { received: new Date('2023-08-01T15:00:00Z') }),
    at('much later', letter('much later', [take(1, 90_000)]), 9),
  ]);
  fake.add('Trash', 'trash', []);
  const mailbox = await Mailbox.open(fake);
  assert.equal((await mailbox.call('getRepeats')).unread.pictures.files, 4, 'a picture by itself is not looked at');
  await compared(mailbox, 'pictures');
  const { pictures } = await mailbox.call('getRepeats');
  assert.deepEqual([pictures.series, pictures.beside.files], [1, 2]);
  const [series] = (await mailbox.call('listPictureSeries')).series;
  const byName = new Map<string, number>(series.pictures.map(({ name, file }: any) => [name, file]));
  assert.deepEqual([...byName.keys()].sort(), ['IMG_1.jpg', 'IMG_2.jpg', 'IMG_3.jpg']);
  const sharpest = series.pictures.reduce((one: any, two: any) => (two.sharpness > one.sharpness ? two : one));
  assert.deepEqual([series.best, sharpest.sharpness], [sharpest.file, 1]);
  // All of a series is too much; what is in none is no picture nearly alike.
  await assert.rejects(mailbox.call('createPictureLot', { files: [...byName.values()] }), { type: 'invalid' });
  await assert.rejects(mailbox.call('createPictureLot', { files: [1] }), { type: 'invalid' });
  const going = [...byName.values()].filter((file) => file !== series.best);
  const lot = await mailbox.call('createPictureLot', { files: going });
  assert.deepEqual([lot.files, lot.unchecked], [2, 0]);
  const run = await mailbox.run({ action: 'strip', lots: [lot.id] });
  assert.deepEqual([run.state, run.left], ['done', []]);
  const notes = fake
    .folder('INBOX')
    .messages.map(({ octets }) => octets?.toString('latin1').replace(/=\r\n/g, '') ?? '');
  assert.equal(notes.join('').split('Copy: a picture nearly alike is in the message').length, 3);
  assert.equal((await mailbox.call('getRepeats')).pictures.series, 0);
});

test('a picture stays where the one nearly alike has gone', async () => {
  const pictures = [1, 2].map((n) => ({
    name: `IMG_${n}.jpg`,
    octets: photograph(n, 90_000 * n, { view: 4, take: n }),
  }));
  for (const isKnown of [true, false]) {
    const fake = new FakeServer();
    fake.add(
      'INBOX',
      'inbox',
      pictures.map((picture, n) => at(`p${n}`, letter(`p${n}`, [picture]), 1)),
    );
    fake.add('Trash', 'trash', []);
    const mailbox = await Mailbox.open(fake);
    await compared(mailbox, 'pictures');
    const [series] = (await mailbox.call('listPictureSeries')).series;
    const goes = series.pictures.find(({ file }: any) => file !== series.best);
    const stays = series.pictures.find(({ file }: any) => file === series.best);
    const lot = await mailbox.call('createPictureLot', { files: [goes.file] });
    const { messages } = fake.folder('INBOX');
    messages.splice(
      messages.findIndex(({ subject }) => subject === stays.subject),
      1,
    );
    if (isKnown) {
      await mailbox.scan();
      await assert.rejects(mailbox.run({ action: 'strip', lots: [lot.id] }), { type: 'would-take-last' });
      await mailbox.call('tellApartAgain');
      await assert.rejects(mailbox.run({ action: 'strip', lots: [lot.id] }), { type: 'nothing-to-do' });
    } else {
      const run = await mailbox.run({ action: 'strip', lots: [lot.id] });
      assert.deepEqual([run.done.messages, run.left[0]?.reason], [0, 'last-copy']);
    }
  }
});

test('what can go as a copy of a message is left out of files; a lot of copies that takes what was to keep a file makes another one stay', async () => {
  const fake = server();
  const twin = letter('autumn', [CATALOGUE]);
  fake.add('Filed', null, [at('autumn', twin, 5)]);
  const mailbox = await Mailbox.open(fake);
  await compared(mailbox);
  const { files } = await mailbox.call('getRepeats');
  assert.deepEqual([files.groups, files.going.files], [1, 3], 'copies are not known yet');
  const lot = await mailbox.call('createFileLot', {});
  assert.equal(lot.files, 3);
  await compared(mailbox, 'messages');
  assert.equal((await mailbox.call('getRepeats')).twins.going.messages, 1);
  const taken = await mailbox.call('createTwinLot', {});
  assert.equal(taken.messages, 1);
  assert.equal((await mailbox.call('getRepeats')).broken, 0, 'whichever copy goes, the file stays somewhere');
  const run = await mailbox.run({ action: 'trash', lots: [taken.id] });
  assert.deepEqual(run.left, []);
  const strip = await mailbox.run({ action: 'strip', lots: [lot.id] });
  assert.equal(strip.state, 'done');
  const held = ['INBOX', 'Offers', 'Filed'].flatMap((path) =>
    fake.folder(path).messages.filter(({ octets }) => hasFile(octets?.toString('latin1') ?? '')),
  );
  assert.ok(
    held.some(({ subject }) => subject !== 'another'),
    'the file is there',
  );
  // Marked in the other order, what goes as a copy is no file that goes.
  const again = await Mailbox.open(
    (() => {
      const other = server();
      other.add('Filed', null, [at('autumn', twin, 5)]);
      return other;
    })(),
  );
  for (const what of ['messages', 'files']) await compared(again, what);
  const { groups } = await again.call('listRepeatedFiles');
  assert.deepEqual(
    groups[0].copies.map(({ state }: { state: string }) => state),
    ['stays', 'goes', 'goes'],
    'the copy that can go with its message is not among them',
  );
});
