import assert from 'node:assert/strict';
import { spawnSync } from 'node:child_process';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { Bag as BagFolder, DiskFull } from '../../src/archive/bag';
import { MailIntake } from '../../src/jobs/save/mail-intake';
import { MailProblem } from '../../src/mail/problem';
import { type Bag, bagById, type PendingFile } from '../../src/store/archive/bags';
import { enqueue } from '../../src/store/jobs';
import { cleanUp, temporaryFolder } from '../harness';
import { difficultServer, FOLDERS, folderOf, isWhole, message, octetsHosted, readByIndex, sumOf } from './bagged';
import { deliver } from './fake-server';
import { given } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

const ALL_MAIL = { place: 'here', what: 'mail', where: '' };

async function begun(mailbox: Mailbox): Promise<number> {
  return (await mailbox.call('saveFiles', ALL_MAIL)).id;
}

const bagOf = (mailbox: Mailbox, id: number) => mailbox.call('getBag', undefined, { bag: `${id}` });

test('mail is saved octet for octet, one mbox file or more a folder, and anybody can read it', async () => {
  const mailbox = await Mailbox.open(difficultServer());
  const id = await begun(mailbox);
  await mailbox.work();
  const bag = await bagOf(mailbox, id);
  const count = octetsHosted(mailbox.server).length;
  assert.deepEqual(
    [bag.state, bag.form, bag.saved.files, bag.checked.files, bag.left],
    ['done', 'mbox', count, count, []],
  );
  await isWhole(mailbox, id, 'saved');
  const folder = await folderOf(mailbox, id);
  const read = await readByIndex(folder);
  const [first] = read.filter(({ subject }) => subject === 'open day');
  assert.deepEqual(
    [first?.folder, first?.flags, first?.keywords, first?.received, first?.messageId],
    ['INBOX', ['\\Seen'], ['$Forwarded', 'later'], '2023-08-06T10:00:05.000Z', '<open-day@mail.example>'],
  );
  const paths = new Set(read.map(({ path }) => path));
  assert.equal(paths.size, 1 + FOLDERS.length, 'each folder has a file of its own');
  assert.equal(new Set([...paths].map((path) => path.toLowerCase())).size, paths.size, 'in any letter case');
  for (const path of paths)
    assert.ok(
      path.split('/').every((name: string) => !/^\.|[\0\\:]/.test(name) && name.length <= 150),
      path,
    );
});

test('Python’s mailbox reads as many messages from each file, with the same octets', async () => {
  const mailbox = await Mailbox.open(difficultServer());
  const id = await begun(mailbox);
  await mailbox.work();
  const folder = await folderOf(mailbox, id);
  // It undoes no quoting and takes what stands between two lines of its own for a message, up to one line end.
  const script = `
import hashlib, json, mailbox, re, sys
out = {}
for path in sys.argv[1:]:
    box = mailbox.mbox(path, create=False)
    out[path] = [hashlib.sha256(re.sub(rb'(?m)^>(>*From )', rb'\\1', box.get_bytes(key))).hexdigest() for key in box.keys()]
print(json.dumps(out))`;
  const read = await readByIndex(folder);
  const paths = [...new Set(read.map(({ path }) => path))].map((path) => join(folder, 'data', path));
  const { stdout, stderr } = spawnSync('python3', ['-c', script, ...paths], { encoding: 'utf8' });
  const sums: Record<string, string[]> = JSON.parse(stdout || 'null') ?? assert.fail(stderr);
  for (const path of paths) {
    const ours = read.filter((entry) => join(folder, 'data', entry.path) === path);
    const ended = ({ octets }: { octets: Buffer }) =>
      octets.at(-1) === 0x0a ? octets : Buffer.concat([octets, Buffer.from('\n')]);
    assert.deepEqual(
      sums[path],
      ours.map((entry) => sumOf(ended(entry))),
      path,
    );
  }
});

test('cut off at any message it goes on there: none is lost or twice', async () => {
  for (let at = 1, cut = true; cut; at++) {
    const fake = difficultServer();
    const mailbox = await Mailbox.open(fake);
    const id = await begun(mailbox);
    let served = 0;
    cut = false;
    fake.served = (octets) => {
      if (++served !== at || cut) return octets;
      cut = true;
      throw new MailProblem('connection-lost', 'cut');
    };
    await mailbox.work().catch((error) => assert.equal(error.kind, 'connection-lost'));
    // What other connections were asked for comes still, and is thrown away.
    for (let turns = 0; turns < 50; turns++) await new Promise(setImmediate);
    const noted = (await bagOf(mailbox, id)).saved.files;
    const before = served;
    if (cut) await mailbox.work();
    const bag = await bagOf(mailbox, id);
    const count = octetsHosted(fake).length;
    assert.deepEqual([bag.state, bag.checked.files], ['done', count], `cut at ${at}`);
    if (cut) assert.equal(served - before, count - noted, `what was saved is not fetched again, cut at ${at}`);
    await isWhole(mailbox, id, `cut at ${at}`);
  }
});

test('what was written and never noted goes when another takes the work up, and what the first one still writes changes nothing', async () => {
  const folder = new BagFolder(join(temporaryFolder(), 'bag'));
  async function* octets(text: string) {
    yield Buffer.from(text);
  }
  const first = await folder.mbox('INBOX.mbox');
  const noted = await first.add('From a Sun\n', octets('noted\n'));
  await first.add('From b Sun\n', octets('not noted\n'));
  await (await folder.mbox('Other.mbox')).add('From c Sun\n', octets('of a file that nobody noted\n'));
  await first.flush();
  await folder.cutTo(new Map([['INBOX.mbox', noted.length]]));
  await first.add('From d Sun\n', octets('by a worker that was stopped and goes on\n'));
  await first.takeBack(1_000);
  await first.close();
  const { size, sha256 } = await folder.unfinishedFile('INBOX.mbox');
  assert.deepEqual([size, sha256], [noted.length, sumOf(Buffer.from('From a Sun\nnoted\n\n'))]);
  await assert.rejects(folder.unfinishedFile('Other.mbox'), /is gone/);
  await assert.rejects(folder.cutTo(new Map([['INBOX.mbox', noted.length + 1]])), /has lost octets/);
});

test('a message that is not as long as the server said is left, and the others stand', async () => {
  const fake = difficultServer();
  const mailbox = await Mailbox.open(fake);
  const id = await begun(mailbox);
  fake.served = (octets) => (octets.includes('From three') ? octets.subarray(0, octets.length - 3) : octets);
  await mailbox.work();
  const bag = await bagOf(mailbox, id);
  assert.deepEqual(
    bag.left.map(({ reason, files }: { reason: string; files: number }) => [reason, files]),
    [['differs', 1]],
  );
  fake.folder('INBOX').messages = fake.folder('INBOX').messages.filter(({ subject }) => subject !== 'line feeds alone');
  await isWhole(mailbox, id, 'without it');
});

test('a bit that fell is found, at its message alone, and messages behind it are checked', async () => {
  const mailbox = await Mailbox.open(difficultServer());
  const id = await begun(mailbox);
  await mailbox.work();
  const folder = await folderOf(mailbox, id);
  const count = octetsHosted(mailbox.server).length;
  const again = async () => {
    await mailbox.database.query(`update bag_file set checked_at = null; update bag set state = 'queued'`);
    await enqueue(mailbox.database, mailbox.account.id, 'save', id);
    await mailbox.work();
    return bagOf(mailbox, id);
  };
  const path = join(folder, 'data/INBOX.mbox');
  const octets = readFileSync(path);
  const entries = (await readByIndex(folder)).filter((entry) => entry.path === 'INBOX.mbox');
  const { offset } = entries.find(({ subject }) => subject === 'no line end') as Record<string, any>;
  // In its line, and in its text; a line end added to it; then the file cut short in the last one.
  for (const [at, fallen] of [
    [offset + 6, 1],
    [offset + 60, 1],
  ] as const) {
    const altered = Buffer.from(octets);
    altered[at] = (altered[at] as number) ^ fallen;
    writeFileSync(path, altered);
    await mailbox.database.query(`update bag_file set reason = null`);
    const bag = await again();
    assert.deepEqual([bag.checked.files, bag.left[0]?.files], [count - 1, 1], `octet ${at}`);
  }
  await mailbox.database.query(`update bag_file set reason = null`);
  writeFileSync(path, octets.subarray(0, octets.length - 1));
  assert.deepEqual((await again()).checked.files, count - 1);
  await mailbox.database.query(`update bag_file set reason = null`);
  writeFileSync(path, octets);
  assert.equal((await again()).checked.files, count);
});

test('a full disk is a pause with a reason, and leaves no message in halves', async () => {
  const mailbox = await Mailbox.open(difficultServer());
  const { archive } = mailbox.context;
  const count = octetsHosted(mailbox.server).length;
  for (let at = 1; at <= 10; at++) {
    let writes = 0;
    mailbox.context.archive = {
      bag(account: number, folder: string) {
        const bag = archive.bag(account, folder);
        const mbox = bag.mbox.bind(bag);
        bag.mbox = async (path) => {
          const file = await mbox(path);
          const add = file.add.bind(file);
          // The octets come in part before there is no room.
          file.add = (line, octets) =>
            add(
              line,
              (async function* () {
                for await (const piece of octets) {
                  yield piece;
                  if (++writes === at) throw new DiskFull('full');
                }
              })(),
            );
          return file;
        };
        return bag;
      },
    } as typeof archive;
    const id = await begun(mailbox);
    await mailbox.work();
    const paused = await bagOf(mailbox, id);
    assert.deepEqual([paused.state, paused.problem?.kind], ['paused', 'disk-full'], `full at ${at}`);
    mailbox.context.archive = archive;
    await mailbox.call('resumeBag', {}, { bag: `${id}` });
    await mailbox.work();
    assert.deepEqual([(await bagOf(mailbox, id)).checked.files], [count], `full at ${at}`);
    await isWhole(mailbox, id, `full at ${at}`);
  }
});

test('a file that is large enough gets no more messages, and no two files have one name', async () => {
  const mailbox = await Mailbox.open(difficultServer());
  const bag = (await bagById(mailbox.database, mailbox.account.id, await begun(mailbox))) as Bag;
  const folder = new BagFolder(join(temporaryFolder(), 'parts'));
  const intake = new MailIntake(mailbox.database, mailbox.account, bag, folder, 1_000);
  await intake.begin();
  const pending = (name: string, size: number) =>
    ({ folder: name, size, address: 'odile@quorn.example', received: new Date(0) }) as PendingFile;
  const paths: string[] = [];
  for (const [name, size] of [
    ['Minutes', 600],
    ['Minutes', 300],
    ['Minutes', 600],
    ['Minutes', 5_000],
    ['minutes', 10],
    ['Minutes (2)', 10],
  ] as const) {
    async function* octets() {
      yield Buffer.alloc(size, 'x');
    }
    const { kept } = await intake.receive(pending(name, size), octets());
    paths.push((await kept()).path);
  }
  await intake.end();
  assert.deepEqual(paths, [
    'Minutes.mbox',
    'Minutes.mbox',
    'Minutes (2).mbox',
    'Minutes (3).mbox',
    'minutes (4).mbox',
    'Minutes (2) (2).mbox',
  ]);
});

test('mail that comes in while it is saved is not in it; cancelled, nothing of it stays; it is not made ready for a download', async () => {
  const fake = difficultServer();
  const mailbox = await Mailbox.open(fake);
  await assert.rejects(mailbox.call('saveFiles', { ...ALL_MAIL, place: 'download' }), { status: 422 });
  const id = await begun(mailbox);
  fake.served = (octets) => {
    deliver(fake.folder('INBOX'), given(message('late', 'x')));
    fake.served = (same) => same;
    return octets;
  };
  await mailbox.work();
  assert.equal((await bagOf(mailbox, id)).saved.files, octetsHosted(fake).length - 1);
  const second = await begun(mailbox);
  await mailbox.call('cancelBag', {}, { bag: `${second}` });
  await mailbox.work();
  assert.equal((await bagOf(mailbox, second)).state, 'cancelled');
  const folder = await folderOf(mailbox, second);
  assert.equal(existsSync(folder) || existsSync(`${folder}.part`), false);
});

test('copies are saved of what lots hold, and of a folder with those in it; the plan and the mailbox stay', async () => {
  const fake = difficultServer();
  for (const folder of ['Club', 'Club/Minutes', 'Clubhouse'])
    fake.add(folder, null, [given(message(`in ${folder}`, 'x'))]);
  const mailbox = await Mailbox.open(fake);
  const subjects = async (id: number) =>
    (await readByIndex(await folderOf(mailbox, id))).map(({ subject }) => subject).sort();
  const before = octetsHosted(fake).length;
  await mailbox.call('createGuard', { where: 'folder = Club' });
  const one = await mailbox.call('createLot', { where: 'folder = Club or folder = Clubhouse' });
  const two = await mailbox.call('createLot', { where: 'folder = Clubhouse or folder = Club/Minutes' });
  const lots = await mailbox.call('saveFiles', { place: 'here', what: 'mail', lots: [one.id, two.id] });
  const within = await mailbox.call('saveFiles', { place: 'here', what: 'mail', where: 'under = Club' });
  await mailbox.work();
  await mailbox.work();
  assert.deepEqual(await subjects(lots.id), ['in Club/Minutes', 'in Clubhouse'], 'what a guard keeps is in no lot');
  assert.deepEqual(await subjects(within.id), ['in Club', 'in Club/Minutes']);
  assert.equal((await mailbox.call('listLots')).lots.length, 2);
  assert.equal(octetsHosted(fake).length, before);
  await assert.rejects(mailbox.call('saveFiles', { place: 'here', what: 'mail', lots: [99] }), { status: 422 });
});
