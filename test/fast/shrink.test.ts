import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import sharp from 'sharp';
import { FLAG_BITS } from '../../src/core/mailbox/flags';
import { photograph } from '../../stand-in/files/photograph';
import { cleanUp } from '../harness';
import { type FakeMessage, FakeServer } from './fake-server';
import { given, letter, octetsOf } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

const PHOTOGRAPH = { name: 'open-day.jpg', octets: photograph(3, 1_400_000) };
const plain = { width: 60, height: 40, channels: 3, background: '#2a6f77' } as const;
const SMALL = { name: 'thumb.jpg', octets: await sharp({ create: plain }).jpeg({ quality: 40 }).toBuffer() };
const FALSE = { name: 'not-one.jpg', octets: octetsOf(800_000, 5) };
const PLAN = { name: 'plan.pdf', octets: octetsOf(20_000, 6), type: 'application/pdf' };
const RECEIVED = new Date('2021-05-03T08:09:10Z');
const SHRINKING = { longest: 1600, place: 'keep' };

const LETTERS = {
  'open day': letter('open day', [PHOTOGRAPH, PLAN]),
  small: letter('small', [SMALL]),
  false: letter('false', [FALSE]),
};

async function open(): Promise<Mailbox> {
  const fake = new FakeServer();
  const bear = { flags: FLAG_BITS.seen | FLAG_BITS.flagged, keywords: ['summer'], received: RECEIVED };
  fake.add(
    'INBOX',
    'inbox',
    Object.values(LETTERS).map((octets) => given(octets, bear)),
  );
  fake.add('Trash', 'trash', []);
  return Mailbox.open(fake);
}

async function shrunk(mailbox: Mailbox, where = 'kind = picture') {
  await mailbox.call('saveFiles', { place: 'here', where });
  await mailbox.work();
  const lot = await mailbox.call('createLot', { fate: 'shrink', where, shrinking: SHRINKING });
  return { lot, run: await mailbox.run({ action: 'shrink', lots: [lot.id] }) };
}

/** The octets of a file of a letter. */
function fileOf(octets: Buffer, name: string): Buffer {
  const text = octets.toString('latin1');
  const from = text.indexOf('\r\n\r\n', text.indexOf(`name="${name}"`)) + 4;
  return Buffer.from(text.slice(from, text.indexOf('\r\n--=_edge', from)), 'base64');
}

test('pictures become smaller and stay pictures; all else of the message stays, and the original is in the trash', async () => {
  const mailbox = await open();
  const { lot, run } = await shrunk(mailbox);
  assert.deepEqual([lot.fate, lot.files, lot.unchecked, lot.shrinking], ['shrink', 3, 0, SHRINKING]);
  assert.equal(run.state, 'done', JSON.stringify(run.problem));
  assert.deepEqual(
    run.left.map(({ reason, messages }) => [reason, messages]),
    [
      ['no-gain', 1],
      ['not-decoded', 1],
    ],
  );
  const { messages } = mailbox.server.folder('INBOX');
  const fresh = messages.find(({ subject }) => subject === 'open day') as FakeMessage & { octets: Buffer };
  assert.equal(mailbox.server.folder('Trash').messages.length, 1);
  assert.deepEqual(
    [fresh.flags, fresh.keywords, fresh.received],
    [FLAG_BITS.seen | FLAG_BITS.flagged, ['summer'], RECEIVED],
  );
  const picture = fileOf(fresh.octets, PHOTOGRAPH.name);
  const { format, width, height } = await sharp(picture).metadata();
  assert.deepEqual([format, Math.max(width, height)], ['jpeg', 1600]);
  assert.ok(picture.length <= PHOTOGRAPH.octets.length * 0.7);
  assert.ok(fileOf(fresh.octets, PLAN.name).equals(PLAN.octets));
  // Outside the picture's part every octet is as it was.
  const around = (octets: Buffer) => {
    const text = octets.toString('latin1');
    const from = text.indexOf('--=_edge\r\nContent-Type: image/jpeg');
    return [text.slice(0, from), text.slice(text.indexOf('\r\n--=_edge', from + 1))];
  };
  assert.deepEqual(around(fresh.octets), around(LETTERS['open day']));
  assert.deepEqual(await mailbox.indexed(), mailbox.hosted);
  assert.deepEqual(run.added, { messages: 1, bytes: fresh.octets.length });
});

test('it is undone, and only checked pictures go on', async () => {
  const mailbox = await open();
  const unsaved = await mailbox.call('createLot', { fate: 'shrink', where: 'kind = picture', shrinking: SHRINKING });
  assert.equal(unsaved.unchecked, 3);
  const early = await mailbox.run({ action: 'shrink', lots: [unsaved.id] });
  assert.deepEqual(
    early.left.map(({ reason, messages }) => [reason, messages]),
    [['unchecked', 3]],
  );
  const { run } = await shrunk(mailbox);
  await mailbox.run({ action: 'restore', run: run.id });
  await mailbox.work();
  const { octets } = mailbox.server
    .folder('INBOX')
    .messages.find(({ subject }) => subject === 'open day') as FakeMessage;
  assert.ok(octets?.equals(LETTERS['open day']));
});

test('lots say how, in ways that are there, and a run has one way', async () => {
  const mailbox = await open();
  const make = (shrinking: object) => mailbox.call('createLot', { fate: 'shrink', where: 'kind = picture', shrinking });
  await assert.rejects(mailbox.call('createLot', { fate: 'shrink', where: 'kind = picture' }), /how pictures are made/);
  await assert.rejects(mailbox.call('createLot', { where: '', shrinking: SHRINKING }), /only for the fate shrink/);
  await assert.rejects(mailbox.call('createLot', { fate: 'shrink', where: 'kind = document', shrinking: SHRINKING }));
  const one = await make({ longest: 1600 });
  const other = await make({ longest: 2560, place: 'remove' });
  assert.deepEqual(other.shrinking, { longest: 2560, place: 'remove' });
  await assert.rejects(mailbox.call('startRun', { action: 'shrink', lots: [one.id, other.id] }), /in different ways/);
  await assert.rejects(mailbox.call('startRun', { action: 'strip', lots: [one.id] }), /another action/);
  // What a picture loses counts once, as much as the lot that takes most.
  const { lots, total } = await mailbox.call('listLots');
  assert.ok(lots[0].adds.bytes > lots[1].adds.bytes);
  assert.equal(total.bytes, Math.max(...lots.map(({ bytes }: { bytes: number }) => bytes)));
});
