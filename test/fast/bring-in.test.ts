import assert from 'node:assert/strict';
import { spawnSync } from 'node:child_process';
import { readdirSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { DiskFull } from '../../src/archive/disk';
import { oneLine } from '../../src/core/text';
import { cancelOverdueUpload } from '../../src/jobs/housekeeping';
import { enqueue } from '../../src/store/jobs';
import { cleanUp } from '../harness';
import { difficultServer, folderOf, message, octetsHosted, readByIndex, sumOf } from './bagged';
import { FakeServer } from './fake-server';
import { letter, octetsOf } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

function emptyServer(): FakeServer {
  const fake = new FakeServer();
  fake.add('INBOX', 'inbox', []);
  fake.add('Trash', 'trash', []);
  return fake;
}

/** Sends a file piece by piece; gives its bag, whose mail is to be read. */
async function sent(mailbox: Mailbox, name: string, octets: Buffer, more: object = {}, piece = 100_000): Promise<any> {
  let bag = await mailbox.call('bringIn', { name, size: octets.length, ...more });
  for (let at = 0; at < octets.length; at += piece)
    bag = await mailbox.response('sendOctets', { bag: `${bag.id}` }, {}, octets.subarray(at, at + piece), { at });
  return bag;
}

async function broughtIn(mailbox: Mailbox, name: string, octets: Buffer, more: object = {}): Promise<any> {
  const { id } = await sent(mailbox, name, octets, more);
  await mailbox.work();
  return mailbox.call('getBag', undefined, { bag: `${id}` });
}

async function isValid(mailbox: Mailbox, id: number): Promise<void> {
  const folder = await folderOf(mailbox, id);
  for (const manifest of ['manifest-sha256.txt', 'tagmanifest-sha256.txt'])
    assert.equal(spawnSync('sha256sum', ['--strict', '--quiet', '-c', manifest], { cwd: folder }).status, 0, manifest);
}

const listed = (mailbox: Mailbox, where: string) =>
  mailbox.call('listMessages', undefined, {}, { scope: 'archive', where, limit: '1000' });
const LINE = 'From odile@quorn.example Sun Aug  6 09:05:07 2023\n';
const mboxOf = (count: number) =>
  Buffer.from(
    Array.from(
      { length: count },
      (_, at) => `${LINE}Subject: letter ${at}\nFrom: a@b.example\n\nnumber ${at}\n\n`,
    ).join(''),
  );

test('a bag that was downloaded is brought into another archive, searched, checked and put back as if it had been saved there', async () => {
  const from = await Mailbox.open(difficultServer());
  const hosted = octetsHosted(from.server).map(sumOf).sort();
  await from.run({ action: 'archive', where: '' });
  const zip = Buffer.from(await (await from.download(1)).arrayBuffer());
  const mailbox = await Mailbox.open(emptyServer());
  const bag = await broughtIn(mailbox, 'bag.zip', zip);
  const { state, saved, checked, brought, asked } = bag;
  assert.deepEqual(
    [state, saved.files, checked.files, asked.files],
    ['done', hosted.length, hosted.length, hosted.length],
  );
  assert.deepEqual([brought.format, brought.received, brought.done], ['zip', zip.length, 1]);
  await isValid(mailbox, bag.id);
  const index = await readByIndex(await folderOf(mailbox, bag.id));
  assert.deepEqual(index.map(({ octets }) => sumOf(octets)).sort(), hosted);
  const kept = (entries: Record<string, any>[]) =>
    entries
      .map(({ folder, sha256, received, flags, keywords, size }) =>
        JSON.stringify({ folder: oneLine(folder), sha256, received, flags, keywords, size }),
      )
      .sort();
  assert.deepEqual(kept(index), kept(await readByIndex(await folderOf(from, 1))));
  // Its words are read, and every octet is read again, like those of any bag.
  await enqueue(mailbox.database, mailbox.account.id, 'read-bag', bag.id);
  await mailbox.work();
  assert.deepEqual(
    (await listed(mailbox, 'text ~ "quoted"')).messages.map(({ subject }: any) => subject),
    ['From at the beginning of lines'],
  );
  assert.equal((await listed(mailbox, 'file ~ open-day')).total.messages, 1);
  await mailbox.run({ action: 'put-back', bag: bag.id });
  assert.deepEqual(octetsHosted(mailbox.server).map(sumOf).sort(), hosted);
  // Nothing is left of what came in, and the archive of the account that it came from is as it was.
  const account = join(await folderOf(mailbox, bag.id), '..');
  assert.deepEqual(readdirSync(account), [bag.folder]);
});

test('a Maildir that was downloaded is brought in with every octet, date, flag and keyword; a download that broke off goes on', async () => {
  const from = await Mailbox.open(difficultServer());
  await from.run({ action: 'archive', where: '' });
  const query = { bag: 1, form: 'maildir' };
  const octetsFrom = async (headers: object) =>
    Buffer.from(await (await from.response('downloadArchive', {}, headers, undefined, query)).arrayBuffer());
  const whole = await octetsFrom({});
  assert.ok(Buffer.concat([whole.subarray(0, 777), await octetsFrom({ range: 'bytes=777-' })]).equals(whole));
  const mailbox = await Mailbox.open(emptyServer());
  const bag = await broughtIn(mailbox, 'maildir.tar', whole);
  const kept = async (of: Mailbox, id: number) =>
    (await readByIndex(await folderOf(of, id)))
      .map(({ sha256, received, flags, keywords }) => JSON.stringify([sha256, received, flags, keywords]))
      .sort();
  assert.deepEqual(await kept(mailbox, bag.id), await kept(from, 1));
  const folders = new Set((await listed(mailbox, '')).messages.map(({ folder }: any) => folder));
  for (const folder of ['INBOX', 'Minutes', 'minutes', 'Committee/Minutes']) assert.ok(folders.has(folder), folder);
});

test('what a message says of itself is read of its octets as the mail server tells it', async () => {
  const octets = letter('Open day', [{ name: 'open-day.jpg', octets: octetsOf(5_000, 1) }]);
  const mailbox = await Mailbox.open(emptyServer());
  await broughtIn(mailbox, 'open-day.eml', octets, { folder: 'Old computer' });
  const { messages } = await listed(mailbox, '');
  assert.equal(messages.length, 1);
  const { subject, folder, files, flags, size } = messages[0];
  assert.deepEqual([subject, folder, flags, size], ['Open day', 'Old computer', ['seen'], octets.length]);
  assert.deepEqual(
    files.map(({ name, type }: any) => [name, type]),
    [['open-day.jpg', 'image/jpeg']],
  );
});

test('killed or without room at any message it goes on where it was, and no message is in it twice', async () => {
  const count = 1_010;
  for (const [at, error] of [
    [1, new Error('killed')],
    [500, new DiskFull('full')],
    [501, new Error('killed')],
  ] as const) {
    const mailbox = await Mailbox.open(emptyServer());
    const { id } = await sent(mailbox, 'old.mbox', mboxOf(count));
    const { archive } = mailbox.context;
    let added = 0;
    mailbox.context.archive = Object.assign(Object.create(archive), {
      bag(account: number, folder: string) {
        const bag = archive.bag(account, folder);
        const mbox = bag.mbox.bind(bag);
        bag.mbox = async (path) => {
          const file = await mbox(path);
          const add = file.add.bind(file);
          file.add = async (line, octets) => {
            const done = await add(line, octets);
            if (++added === at) throw error;
            return done;
          };
          return file;
        };
        return bag;
      },
    });
    if (error instanceof DiskFull) {
      await mailbox.work();
      const paused = await mailbox.call('getBag', undefined, { bag: `${id}` });
      assert.deepEqual([paused.state, paused.problem?.kind], ['paused', 'disk-full']);
      await mailbox.call('resumeBag', {}, { bag: `${id}` });
    } else await assert.rejects(mailbox.work(), /killed/);
    mailbox.context.archive = archive;
    await mailbox.work();
    const index = await readByIndex(await folderOf(mailbox, id));
    assert.deepEqual(
      // What is taken up goes into a file of its own.
      index.map(({ subject }) => subject).sort((one, other) => Number(one.slice(7)) - Number(other.slice(7))),
      Array.from({ length: count }, (_, n) => `letter ${n}`),
      `${at}`,
    );
    await isValid(mailbox, id);
  }
});

test('work that somebody waits for goes first, and the file goes on behind it', async () => {
  const mailbox = await Mailbox.open(emptyServer());
  const { id } = await sent(mailbox, 'old.mbox', mboxOf(1_100));
  await mailbox.call('startScan');
  const work = async () => {
    await mailbox.work();
    const { rows } = await mailbox.database.query(`select kind from job where done_at is null order by kind`);
    return rows.map(({ kind }) => kind);
  };
  assert.deepEqual(await work(), ['bring-in'], 'the scan, though it came later');
  await mailbox.call('startScan');
  await mailbox.database.query(
    `update job set not_before = now() + interval '1 hour' where kind = 'scan' and done_at is null`,
  );
  assert.deepEqual(await work(), ['read-bag', 'scan'], 'a scan that is not due does not hold it up');
  assert.equal((await mailbox.call('getBag', undefined, { bag: `${id}` })).saved.files, 1_100);
});

test('octets are taken where the last ones ended, and no others', async () => {
  const mailbox = await Mailbox.open(emptyServer());
  const octets = mboxOf(3);
  const { id } = await mailbox.call('bringIn', { name: 'old.mbox', size: octets.length });
  const send = (at: number, piece: Buffer) => mailbox.response('sendOctets', { bag: `${id}` }, {}, piece, { at });
  await assert.rejects(send(5, octets), { status: 409 });
  await send(0, octets.subarray(0, 20));
  await assert.rejects(send(0, octets.subarray(0, 20)), /20 octets are here/);
  await assert.rejects(send(20, Buffer.concat([octets, octets])), { status: 422 });
  await assert.rejects(mailbox.response('sendOctets', { bag: '7' }, {}, octets, { at: 0 }), { status: 404 });
  await send(20, octets.subarray(20));
  await assert.rejects(send(octets.length, octets), /takes no more/);
  await mailbox.work();
  assert.equal((await mailbox.call('getBag', undefined, { bag: `${id}` })).saved.files, 3);
  await assert.rejects(mailbox.call('bringIn', { name: 'large.mbox', size: 2 ** 52 }), /has room for/);
});

test('cancelled, deleted, or given up, nothing of it is left on the disk or in the index', async () => {
  const mailbox = await Mailbox.open(emptyServer());
  const messages = async () => (await mailbox.database.query('select from message')).rowCount;
  const onDisk = async (id: number) => readdirSync(join(await folderOf(mailbox, id), '..'));
  const { id: coming } = await mailbox.call('bringIn', { name: 'old.mbox', size: 10 });
  await mailbox.response('sendOctets', { bag: `${coming}` }, {}, Buffer.from('From'), { at: 0 });
  assert.equal((await onDisk(coming)).length, 1);
  assert.equal(await cancelOverdueUpload(mailbox.context), false);
  await mailbox.call('cancelBag', {}, { bag: `${coming}` });
  assert.deepEqual(await onDisk(coming), []);
  const { id: left } = await mailbox.call('bringIn', { name: 'old.mbox', size: 10 });
  await mailbox.response('sendOctets', { bag: `${left}` }, {}, Buffer.from('From'), { at: 0 });
  await mailbox.database.query(`update brought set touched_at = now() - interval '8 days' where bag = ${left}`);
  assert.equal(await cancelOverdueUpload(mailbox.context), true);
  const { id } = await sent(mailbox, 'old.mbox', mboxOf(3));
  await mailbox.call('cancelBag', {}, { bag: `${id}` });
  await mailbox.work();
  assert.deepEqual([await onDisk(id), await messages()], [[], 0]);
  const bag = await broughtIn(mailbox, 'old.mbox', mboxOf(3));
  assert.equal(await messages(), 3);
  await mailbox.database.query(`update bag set held_until = '2199-01-01', held_reason = 'law' where id = ${bag.id}`);
  await assert.rejects(mailbox.call('deleteBag', undefined, { bag: `${bag.id}` }), /held until/);
});

test('what can’t be read is told with its reason, and the archive is as it was; what is damaged is kept and counted', async () => {
  const mailbox = await Mailbox.open(emptyServer());
  for (const [octets, kind] of [
    [Buffer.from('\x89PNG no mail'), 'not-mail'],
    [Buffer.from(`PK\x03\x04${'x'.repeat(100)}`), 'damaged-archive'],
  ] as const) {
    const { state, problem, saved } = await broughtIn(mailbox, 'file', octets);
    assert.deepEqual([state, problem.kind, saved.files], ['failed', kind, 0]);
  }
  const cut = Buffer.concat([
    Buffer.from(`${LINE}no field at all\n\n`),
    Buffer.from(LINE),
    message('whole', 'x\r\n'),
    Buffer.from(`\n${LINE}Subject: cut\n\nin the middle of a li`),
  ]);
  const { state, saved, brought } = await broughtIn(mailbox, 'old.mbox', cut);
  // The first line before a message is followed by no field, so it is taken for a line of the one before, of which there is none.
  assert.deepEqual([state, saved.files, brought.flawed], ['done', 2, 1]);
});
