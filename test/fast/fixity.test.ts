import assert from 'node:assert/strict';
import { readFileSync, rmSync, statSync, truncateSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { beginDueReadings } from '../../src/jobs/housekeeping';
import { cleanUp } from '../harness';
import { difficultServer, folderOf, isWhole, octetsHosted, readByIndex, sumOf } from './bagged';
import { Mailbox } from './mailbox';

after(cleanUp);

/** A mailbox with all of its mail in a bag. */
async function bagged(): Promise<{ mailbox: Mailbox; folder: string; count: number }> {
  const mailbox = await Mailbox.open(difficultServer());
  await mailbox.call('saveFiles', { place: 'here', what: 'mail', where: '' });
  await mailbox.work();
  await mailbox.work();
  return { mailbox, folder: await folderOf(mailbox, 1), count: octetsHosted(mailbox.server).length };
}

const BAG = { bag: '1' };
const bagOf = (mailbox: Mailbox) => mailbox.call('getBag', undefined, BAG);

async function readAgain(mailbox: Mailbox) {
  await mailbox.call('readBag', undefined, BAG);
  await mailbox.work();
  return bagOf(mailbox);
}

const damageOf = async (mailbox: Mailbox) => (await mailbox.call('listDamage', undefined, BAG)).files;

/** Flips one bit. */
function flip(path: string, at: number): void {
  const octets = readFileSync(path);
  octets[at] = (octets[at] as number) ^ 1;
  writeFileSync(path, octets);
}

/** Where a message is in its file: in the midst of it. */
async function midstOf(folder: string, subject: string): Promise<{ path: string; at: number }> {
  const entry = (await readByIndex(folder)).find((one) => one.subject === subject) as Record<string, any>;
  return { path: join(folder, 'data', entry.path), at: entry.offset + entry.length - 4 };
}

test('a bit that fell is found, said with its message and by mail, and repaired from the mailbox', async () => {
  const { mailbox, folder, count } = await bagged();
  await mailbox.database.query(
    `update account set settings = settings || '{"mailWhen": "long", "mailTo": "tern@mail.example"}'`,
  );
  const before = readFileSync(join(folder, 'data/INBOX.mbox'));
  const { path, at } = await midstOf(folder, 'octets of all kinds');
  flip(path, at);
  const found = await readAgain(mailbox);
  assert.deepEqual([found.damaged.files, found.checked.files, found.readAgain], [1, count - 1, null]);
  assert.deepEqual(
    (await damageOf(mailbox)).map(({ subject, sources }: any) => [subject, sources]),
    [['octets of all kinds', ['mailbox']]],
  );
  assert.equal((await mailbox.call('getArchive')).damaged.files, 1);
  const notices = await mailbox.database.query<{ subject: string }>('select subject from notice');
  assert.deepEqual(
    notices.rows.map(({ subject }) => subject),
    ['Bag 1 of your archive is damaged'],
  );
  await mailbox.call('repairBag', undefined, BAG);
  await mailbox.work();
  const repaired = await bagOf(mailbox);
  assert.deepEqual([repaired.damaged.files, repaired.checked.files], [0, count]);
  assert.deepEqual(readFileSync(path), before);
  await isWhole(mailbox, 1, 'repaired');
});

test('what nothing else has any more is repaired from a copy that is handed in, and from no other octets', async () => {
  const { mailbox, folder } = await bagged();
  const copy = readFileSync(join(folder, 'data/INBOX.mbox'));
  const { path, at } = await midstOf(folder, 'line feeds alone');
  flip(path, at);
  mailbox.server.folder('INBOX').messages = [];
  await mailbox.scan();
  await readAgain(mailbox);
  const [damaged] = await damageOf(mailbox);
  assert.deepEqual(damaged.sources, []);
  const handIn = (octets: Buffer) =>
    mailbox.response('repairFromCopy', { ...BAG, file: `${damaged.file}` }, {}, octets);
  const slice = copy.subarray(damaged.at, damaged.at + damaged.length);
  const other = Buffer.from(slice);
  other[slice.length - 5] = (other[slice.length - 5] as number) ^ 1;
  await assert.rejects(handIn(other), /not the octets that were saved/);
  await assert.rejects(handIn(slice.subarray(0, slice.length - 4)), /not the octets that were saved/);
  await assert.rejects(handIn(Buffer.concat([slice, slice])), /too large/i);
  assert.notDeepEqual(readFileSync(path), copy, 'nothing was taken');
  await handIn(slice);
  assert.deepEqual(readFileSync(path), copy);
  const bag = await readAgain(mailbox);
  assert.equal(bag.damaged.files, 0);
});

test('files that were cut, or are gone, are found; the manifests too, which are written anew', async () => {
  const { mailbox, folder, count } = await bagged();
  truncateSync(join(folder, 'data/INBOX.mbox'), statSync(join(folder, 'data/INBOX.mbox')).size - 10);
  rmSync(join(folder, 'data/Committee'), { recursive: true });
  flip(join(folder, 'manifest-sha256.txt'), 3);
  flip(join(folder, 'data/index.jsonl'), 20);
  rmSync(join(folder, 'bagit.txt'));
  const found = await readAgain(mailbox);
  assert.deepEqual([found.damaged.files, found.checked.files], [2, count - 2]);
  assert.deepEqual(found.tagsDamaged.sort(), ['bagit.txt', 'data/index.jsonl', 'manifest-sha256.txt']);
  await mailbox.call('repairBag', undefined, BAG);
  await mailbox.work();
  const repaired = await bagOf(mailbox);
  assert.deepEqual([repaired.damaged.files, repaired.tagsDamaged], [0, []]);
  await isWhole(mailbox, 1, 'repaired');
});

test('what is damaged lets nothing go: an archive run keeps its message, and puts it into a bag of its own', async () => {
  const { mailbox, folder, count } = await bagged();
  const { path, at } = await midstOf(folder, 'no line end');
  flip(path, at);
  await readAgain(mailbox);
  const run = await mailbox.run({ action: 'archive', where: '' });
  assert.deepEqual([run.done.messages, run.left], [count, []]);
  const second = await mailbox.call('getBag', undefined, { bag: `${run.bag}` });
  assert.equal(second.checked.files, 1, 'the one that was damaged is saved again');
  // The words of that bag; then the damaged one has another bag as a source.
  await mailbox.work();
  assert.deepEqual((await damageOf(mailbox))[0].sources, ['archive', 'trash']);
});

test('a bag is read again after 30 days, goes on where it was, and gives way', async () => {
  const { mailbox, count } = await bagged();
  const { database, account } = mailbox;
  const waiting = async () =>
    (await database.query(`select 1 from job where kind = 'read-bag' and done_at is null`)).rows.length;
  await beginDueReadings(mailbox.context);
  assert.equal(await waiting(), 0);
  await database.query(`update bag set checked_at = now() - interval '31 days'`);
  await database.query(`update bag_file set checked_at = now() - interval '31 days'`);
  await beginDueReadings(mailbox.context);
  assert.equal(await waiting(), 1);
  await database.query(`insert into job (account, kind, subject) values ($1, 'scan', 99)`, [account.id]);
  // The scan goes first; whoever reads the bag lets it.
  await database.query(`update job set begun_at = now() where kind = 'read-bag'`);
  await mailbox.work();
  const half = await bagOf(mailbox);
  assert.ok(half.readAgain > 0 && half.readAgain < count, `${half.readAgain}`);
  await database.query(`delete from job where kind = 'scan' and subject = 99`);
  await mailbox.work();
  const { readAgain: none, checkedAt, checked } = await bagOf(mailbox);
  assert.deepEqual([none, checked.files, Date.now() - Date.parse(checkedAt) < 60_000], [null, count, true]);
});

test('a copy that is handed in is noted by the mbox files that are equal', async () => {
  const { mailbox, folder, count } = await bagged();
  assert.equal((await bagOf(mailbox)).onlyHere.files, count);
  const paths = [...new Set((await readByIndex(folder)).map(({ path }) => path as string))];
  const files = paths.map((path) => ({ path, sha256: sumOf(readFileSync(join(folder, 'data', path))) }));
  const wrong = { path: files[0]?.path ?? '', sha256: '0'.repeat(64) };
  const check = (some: object[]) => mailbox.call('checkBag', { files: some }, BAG);
  assert.deepEqual(await check([wrong, { path: 'other', sha256: '0'.repeat(64) }]), {
    checked: 0,
    differs: [wrong.path],
    unknown: ['other'],
  });
  await check(files.slice(1));
  assert.ok((await bagOf(mailbox)).onlyHere.files > 0);
  assert.equal((await check(files)).checked, files.length);
  assert.equal((await bagOf(mailbox)).onlyHere.files, 0);
});
