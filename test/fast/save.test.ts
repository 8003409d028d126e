import assert from 'node:assert/strict';
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { DiskFull } from '../../src/archive/bag';
import { createFile, orDiskFull } from '../../src/archive/disk';
import { deleteOverdueDownload } from '../../src/jobs/housekeeping';
import { MailProblem } from '../../src/mail/problem';
import { bagById } from '../../src/store/archive/bags';
import { enqueue } from '../../src/store/jobs';
import { cleanUp } from '../harness';
import { FakeServer } from './fake-server';
import { given, letter, octetsOf } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

const PICTURES = [
  { name: 'open-day-01.jpg', octets: octetsOf(5_000, 1) },
  { name: 'open-day-02.jpg', octets: octetsOf(7_001, 2) },
];
/** The same name once more, in another case, on the same day of the same author. */
const AGAIN = { name: 'Open-Day-01.jpg', octets: octetsOf(300, 3) };
const SUMS = [...PICTURES, AGAIN].map(({ octets }) => createHash('sha256').update(octets).digest('hex')).sort();

function server(): FakeServer {
  const fake = new FakeServer();
  fake.add('INBOX', 'inbox', [given(letter('open day', PICTURES)), given(letter('more', [AGAIN]))]);
  fake.add('Trash', 'trash', []);
  return fake;
}

const EVERY_FILE = { place: 'here', where: 'size > 0 B' };

async function saved(mailbox: Mailbox, body: object = EVERY_FILE) {
  const { id } = await mailbox.call('saveFiles', body);
  await mailbox.work();
  return mailbox.call('getBag', undefined, { bag: `${id}` });
}

const filesOf = async (mailbox: Mailbox, bag: number, state = 'saved') =>
  (await mailbox.call('listBagFiles', undefined, { bag: `${bag}` }, { state })).files;

async function folderOf(mailbox: Mailbox, bag: number): Promise<string> {
  const { folder } = (await bagById(mailbox.database, mailbox.account.id, bag)) as { folder: string };
  return mailbox.context.archive.bag(mailbox.account.id, folder).path;
}

test('files are saved octet for octet under readable names, each once, and anybody can check the bag', async () => {
  const mailbox = await Mailbox.open(server());
  const bag = await saved(mailbox);
  assert.deepEqual([bag.state, bag.asked.files, bag.saved.files, bag.checked.files], ['done', 3, 3, 3]);
  const files = await filesOf(mailbox, bag.id);
  assert.deepEqual(files.map(({ path }: { path: string }) => path).sort(), [
    '2023/2023-08-06 Odile Marchbanks/Open-Day-01 (2).jpg',
    '2023/2023-08-06 Odile Marchbanks/open-day-01.jpg',
    '2023/2023-08-06 Odile Marchbanks/open-day-02.jpg',
  ]);
  assert.deepEqual(files.map(({ sha256 }: { sha256: string }) => sha256).sort(), SUMS);
  const folder = await folderOf(mailbox, bag.id);
  for (const manifest of ['manifest-sha256.txt', 'tagmanifest-sha256.txt'])
    assert.equal(spawnSync('sha256sum', ['--strict', '-c', manifest], { cwd: folder }).status, 0, manifest);
  const index = readFileSync(join(folder, 'data/index.jsonl'), 'utf8')
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line));
  assert.deepEqual(
    index.map(({ part, folder, messageId }) => [part, folder, messageId]),
    [
      ['2', 'INBOX', '<open-day@mail.example>'],
      ['3', 'INBOX', '<open-day@mail.example>'],
      ['2', 'INBOX', '<more@mail.example>'],
    ],
  );
  const listed = await mailbox.call('listFiles', undefined, {}, { where: 'kind = picture' });
  assert.deepEqual(
    listed.files.map(({ copy }: { copy: string }) => copy),
    ['checked', 'checked', 'checked'],
  );
});

test('whole messages are saved as they are', async () => {
  const mailbox = await Mailbox.open(server());
  const bag = await saved(mailbox, { place: 'here', what: 'messages', where: 'subject = "open day"' });
  const [file] = await filesOf(mailbox, bag.id);
  const octets = letter('open day', PICTURES);
  assert.equal(file.path, '2023/2023-08-06 Odile Marchbanks/open day.eml');
  assert.equal(file.sha256, createHash('sha256').update(octets).digest('hex'));
  assert.deepEqual(readFileSync(join(await folderOf(mailbox, bag.id), 'data', file.path)), octets);
});

test('messages that are excepted are not saved, and a set is deleted from the disk', async () => {
  const mailbox = await Mailbox.open(server());
  const { messages } = await mailbox.call('listMessages', undefined, {}, { where: 'subject = more' });
  const except = messages.map(({ id }: { id: number }) => id);
  const bag = await saved(mailbox, { place: 'download', what: 'messages', where: '', except });
  assert.deepEqual(
    (await filesOf(mailbox, bag.id)).map(({ path }: { path: string }) => path),
    ['2023/2023-08-06 Odile Marchbanks/open day.eml'],
  );
  const folder = await folderOf(mailbox, bag.id);
  await mailbox.call('deleteBag', undefined, { bag: `${bag.id}` });
  assert.equal(existsSync(folder), false);
  assert.equal((await mailbox.call('getBag', undefined, { bag: `${bag.id}` })).state, 'erased');
});

test('what is not as the server said, what is gone and what it refuses is left, each with its reason', async () => {
  const fake = server();
  const mailbox = await Mailbox.open(fake);
  fake.served = (octets, section) => {
    if (octets.length > 9_000) return octets.subarray(1);
    if (section === '2' && octets.length < 1_000) throw new MailProblem('command-refused', 'No.');
    return octets;
  };
  const bag = await saved(mailbox);
  assert.deepEqual(
    bag.left.map(({ reason, files }: { reason: string; files: number }) => [reason, files]),
    [
      ['differs', 1],
      ['unreadable', 1],
    ],
  );
  assert.deepEqual([bag.saved.files, bag.checked.files], [1, 1]);
  fake.folder('INBOX').messages.length = 0;
  const later = await saved(mailbox);
  assert.deepEqual(
    later.left.map(({ reason }: { reason: string }) => reason),
    ['vanished'],
  );
  assert.equal(later.saved.files, 0);
});

test('killed at any file it goes on there, and fetches none twice', async () => {
  for (const at of [1, 2, 3]) {
    const fake = server();
    const mailbox = await Mailbox.open(fake);
    const fetched: string[] = [];
    let count = 0;
    fake.served = (octets, section) => {
      if (++count === at) throw new Error('killed');
      fetched.push(section);
      return octets;
    };
    const { id } = await mailbox.call('saveFiles', EVERY_FILE);
    await assert.rejects(mailbox.work(), /killed/);
    const folder = await folderOf(mailbox, id);
    assert.equal(existsSync(folder), false, 'there is no half bag under its name');
    await mailbox.work();
    assert.deepEqual(fetched, ['2', '3', '2']);
    const bag = await mailbox.call('getBag', undefined, { bag: `${id}` });
    assert.deepEqual([bag.state, bag.checked.files], ['done', 3]);
    assert.equal(existsSync(`${folder}.part`), false);
  }
});

test('a file that does not read back as it was written is not checked', async () => {
  const mailbox = await Mailbox.open(server());
  const bag = await saved(mailbox);
  const [first] = await filesOf(mailbox, bag.id);
  const path = join(await folderOf(mailbox, bag.id), 'data', first.path);
  const octets = readFileSync(path);
  octets[100] = (octets[100] ?? 0) ^ 1;
  writeFileSync(path, octets);
  await mailbox.database.query(`update bag_file set checked_at = null; update bag set state = 'queued'`);
  await enqueue(mailbox.database, mailbox.account.id, 'save', bag.id);
  await mailbox.work();
  const now = await mailbox.call('getBag', undefined, { bag: `${bag.id}` });
  assert.deepEqual([now.checked.files, now.left], [2, [{ reason: 'differs', files: 1, bytes: first.encoded }]]);
});

test('a full disk is a pause with a reason; what was saved stays, and it goes on', async () => {
  const full = await createFile('/dev/full');
  await assert.rejects(
    orDiskFull(() => full.writeFile(Buffer.alloc(10))),
    DiskFull,
  );
  await full.close();
  const mailbox = await Mailbox.open(server());
  const { archive } = mailbox.context;
  let isFull = true;
  mailbox.context.archive = {
    bag(account: number, folder: string) {
      const bag = archive.bag(account, folder);
      const receive = bag.receive.bind(bag);
      bag.receive = async (path, octets) => {
        const received = await receive(path, octets);
        if (!isFull || !path.includes('day-02')) return received;
        await received.kept;
        await bag.remove(path);
        const kept = Promise.reject(new DiskFull('full'));
        kept.catch(() => undefined);
        return { ...received, kept };
      };
      return bag;
    },
  } as typeof archive;
  const { id } = await mailbox.call('saveFiles', EVERY_FILE);
  await mailbox.work();
  const paused = await mailbox.call('getBag', undefined, { bag: `${id}` });
  assert.deepEqual([paused.state, paused.problem.kind, paused.saved.files], ['paused', 'disk-full', 2]);
  isFull = false;
  await mailbox.call('resumeBag', {}, { bag: `${id}` });
  await mailbox.work();
  const bag = await mailbox.call('getBag', undefined, { bag: `${id}` });
  assert.deepEqual([bag.state, bag.checked.files], ['done', 3]);
});

test('cancelled before it is whole, nothing of it stays', async () => {
  const fake = server();
  const mailbox = await Mailbox.open(fake);
  const { id } = await mailbox.call('saveFiles', EVERY_FILE);
  await mailbox.call('cancelBag', {}, { bag: `${id}` });
  await mailbox.work();
  const bag = await mailbox.call('getBag', undefined, { bag: `${id}` });
  assert.deepEqual(
    bag.left.map(({ reason, files }: { reason: string; files: number }) => [reason, files]),
    [['cancelled', 3]],
  );
  assert.equal(bag.state, 'cancelled');
  const folder = await folderOf(mailbox, id);
  assert.equal(existsSync(folder) || existsSync(`${folder}.part`), false);
});

test('cancelled while it is read back, nothing of it stays', async () => {
  const mailbox = await Mailbox.open(server());
  const { database, account } = mailbox;
  const { id } = await mailbox.call('saveFiles', EVERY_FILE);
  await mailbox.work();
  const folder = await folderOf(mailbox, id);
  assert.equal(existsSync(folder), true);
  // As whoever is killed between the last file and the first verdict leaves it.
  await database.query(`delete from job; update bag set state = 'checking', ended_at = null, checked_at = null`);
  await database.query('update bag_file set checked_at = null');
  await enqueue(database, account.id, 'save', id);
  await mailbox.call('cancelBag', {}, { bag: `${id}` });
  await mailbox.work();
  const bag = await mailbox.call('getBag', undefined, { bag: `${id}` });
  assert.deepEqual([bag.state, bag.checked.files, bag.left[0].reason], ['cancelled', 0, 'cancelled']);
  assert.equal(existsSync(folder), false);
});

test('a copy on the person’s computer is checked by what they hand in, and by nothing else', async () => {
  const mailbox = await Mailbox.open(server());
  const bag = await saved(mailbox, { ...EVERY_FILE, place: 'download' });
  assert.deepEqual([bag.state, bag.saved.files, bag.checked.files], ['done', 3, 0]);
  const files = await filesOf(mailbox, bag.id);
  const handedIn = files.map(({ path, sha256 }: { path: string; sha256: string }) => ({ path, sha256 }));
  handedIn[1] = { path: handedIn[1].path, sha256: handedIn[0].sha256 };
  const verdict = await mailbox.call(
    'checkBag',
    { files: [...handedIn, { path: 'other.jpg', sha256: SUMS[0] }] },
    { bag: `${bag.id}` },
  );
  assert.deepEqual(verdict, { checked: 2, differs: [handedIn[1].path], unknown: ['other.jpg'] });
  const now = await mailbox.call('getBag', undefined, { bag: `${bag.id}` });
  assert.equal(now.checked.files, 2);
});

test('a download goes on where it broke off', async () => {
  const mailbox = await Mailbox.open(server());
  const bag = await saved(mailbox, { ...EVERY_FILE, place: 'download' });
  const download = (range?: string) => mailbox.download(bag.id, range);
  const whole = await download();
  const octets = Buffer.from(await whole.arrayBuffer());
  assert.equal(octets.length, Number(whole.headers.get('content-length')));
  for (const at of [1, 700, octets.length - 1]) {
    const rest = await download(`bytes=${at}-`);
    assert.equal(rest.status, 206);
    assert.deepEqual(Buffer.from(await rest.arrayBuffer()), octets.subarray(at));
  }
  await assert.rejects(download(`bytes=${octets.length}-`), { status: 416 });
  const script =
    'import io,sys,zipfile; z=zipfile.ZipFile(io.BytesIO(sys.stdin.buffer.read())); assert z.testzip() is None; print(len(z.namelist()))';
  const read = spawnSync('python3', ['-c', script], { input: octets, encoding: 'utf8' });
  const inFolder = readdirSync(await folderOf(mailbox, bag.id), { recursive: true, withFileTypes: true });
  assert.equal(Number(read.stdout), inFolder.filter((entry) => entry.isFile()).length, read.stderr);
});

test('what was made ready for a download lies here for a week; copies that were handed in stay checked after it', async () => {
  const mailbox = await Mailbox.open(server());
  const stays = await saved(mailbox);
  const bag = await saved(mailbox, { ...EVERY_FILE, place: 'download' });
  const folder = await folderOf(mailbox, bag.id);
  const [first] = await filesOf(mailbox, bag.id);
  const handedIn = { files: [{ path: first.path, sha256: first.sha256 }] };
  assert.equal((await mailbox.call('checkBag', handedIn, { bag: `${bag.id}` })).checked, 1);
  const age = (days: number) =>
    mailbox.database.query(`update bag set ended_at = now() - $1 * interval '1 day'`, [days]);
  await age(6.9);
  assert.equal(await deleteOverdueDownload(mailbox.context), false);
  assert.ok(existsSync(folder));
  await age(7.1);
  assert.equal(await deleteOverdueDownload(mailbox.context), true);
  assert.equal(await deleteOverdueDownload(mailbox.context), false, 'it is done once, and no other bag goes');
  assert.deepEqual([existsSync(folder), existsSync(await folderOf(mailbox, stays.id))], [false, true]);
  const { state, checked, keptUntil } = await mailbox.call('getBag', undefined, { bag: `${bag.id}` });
  assert.deepEqual([state, checked.files, keptUntil], ['erased', 1, undefined]);
  await assert.rejects(mailbox.download(bag.id), { type: 'wrong-state' });
});

test('a file of a set is downloaded by its path, and nothing else of the machine is', async () => {
  const mailbox = await Mailbox.open(server());
  const bag = await saved(mailbox);
  const [first] = await filesOf(mailbox, bag.id);
  const one = await mailbox.download(bag.id, undefined, `data/${first.path}`);
  const octets = Buffer.from(await one.arrayBuffer());
  assert.equal(createHash('sha256').update(octets).digest('hex'), first.sha256);
  assert.equal(one.headers.get('content-type'), 'application/octet-stream');
  assert.match(await (await mailbox.download(bag.id, undefined, 'bagit.txt')).text(), /^BagIt-Version: 1\.0/);
  for (const path of [
    '',
    'data',
    first.path,
    `data/${first.path.toUpperCase()}`,
    'data/../bagit.txt',
    '../../../etc/passwd',
    '/etc/passwd',
  ])
    await assert.rejects(mailbox.download(bag.id, undefined, path), /does not exist/, path);
});

test('what was read back before a pause is not said to be read back again', async () => {
  const mailbox = await Mailbox.open(server());
  const { id } = await saved(mailbox);
  const [first] = await filesOf(mailbox, id);
  await mailbox.database.query(
    `update bag_file set checked_at = case when file = $1 then timestamptz '2020-01-01' end where bag = $2`,
    [first.file, id],
  );
  await mailbox.database.query(`update bag set state = 'queued'`);
  await enqueue(mailbox.database, mailbox.account.id, 'save', id);
  await mailbox.work();
  const files = await filesOf(mailbox, id);
  assert.equal(files.find(({ file }: { file: number }) => file === first.file).checkedAt, '2020-01-01T00:00:00.000Z');
  assert.ok(files.every(({ checkedAt }: { checkedAt: string | null }) => checkedAt !== null));
});
