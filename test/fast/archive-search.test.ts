import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { searchedText } from '../../src/mail/mime/searched-text';
import { cleanUp, temporaryFolder } from '../harness';
import { difficultServer, message, octetsHosted, sumOf } from './bagged';
import { deliver, type FakeServer } from './fake-server';
import { given, letter, octetsOf } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

/** Texts in the transfer encodings and charsets that mail comes in, each with what a person reads in it. */
const ENCODED: Record<string, { octets: Buffer; reads: string[]; doesNotRead: string[] }> = {
  'quoted-printable, ISO 8859-1': {
    octets: message(
      'p',
      '',
      'Content-Type: text/plain; charset=iso-8859-1\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\nDie M=FChle am Flu=DF, ver=\r\nlegt.\r\n',
    ),
    reads: ['mühle am fluss', 'MÜHLE AM FLUSS', 'verlegt'],
    doesNotRead: ['=FC'],
  },
  'base64, UTF-8, HTML': {
    octets: message(
      'h',
      '',
      `Content-Type: text/html; charset="UTF-8"\r\nContent-Transfer-Encoding: base64\r\n\r\n${Buffer.from('<style>p{color:lease}</style><p>The <b>signed</b> lease &amp; the bees 語彙</p>').toString('base64')}\r\n`,
    ),
    reads: ['signed lease & the bees', '語彙', '彙', 'se & th'],
    doesNotRead: ['color', 'amp;', '<b>'],
  },
  'an enclosed message, and a table': {
    octets: letter('outer', [
      {
        name: 'inner.eml',
        type: 'message/rfc822',
        octets: Buffer.from('Subject: =?utf-8?q?Old_l=C3=AAase?=\r\n\r\nInside it says marrow.\r\n'),
      },
      { name: 'plots.csv', type: 'text/csv', octets: Buffer.from('plot;tenant\r\n14;Quorn\r\n') },
      { name: 'photo.jpg', octets: octetsOf(3_000, 3) },
    ]),
    reads: ['plot;tenant', 'quorn', 'plots.csv', 'inner.eml', 'photo.jpg'],
    doesNotRead: ['image/jpeg', 'boundary'],
  },
};

function server(): FakeServer {
  const fake = difficultServer();
  for (const { octets } of Object.values(ENCODED)) deliver(fake.folder('INBOX'), given(octets));
  return fake;
}

async function archived(fake: FakeServer): Promise<Mailbox> {
  const mailbox = await Mailbox.open(fake);
  await mailbox.run({ action: 'archive', where: '' });
  return mailbox;
}

const listed = (mailbox: Mailbox, where: string, more: object = {}) =>
  mailbox.call('listMessages', undefined, {}, { scope: 'archive', where, ...more });
const subjects = (answer: { messages: { subject: string }[] }) => answer.messages.map(({ subject }) => subject).sort();

test('a text is found in every charset and encoding, as it reads and not as it was sent', async () => {
  const mailbox = await archived(server());
  const before = await listed(mailbox, 'text ~ "lease"');
  assert.deepEqual([before.total.messages, before.complete], [0, false], 'words are not read yet, and that is said');
  const all = { action: 'put-back', where: 'not text ~ lease' };
  await assert.rejects(
    mailbox.call('startRun', all),
    /still reading words/,
    'nothing is done with a part of what matches',
  );
  await mailbox.work();
  for (const [what, { reads, doesNotRead }] of Object.entries(ENCODED)) {
    for (const text of reads) {
      const { total, complete } = await listed(mailbox, `text ~ ${JSON.stringify(text)}`);
      assert.deepEqual([total.messages, complete], [1, true], `${what}: ${text}`);
    }
    for (const text of doesNotRead)
      assert.equal((await listed(mailbox, `text ~ ${JSON.stringify(text)}`)).total.messages, 0, `${what}: ${text}`);
  }
  const both = await listed(mailbox, 'text ~ "From here on" and folder = INBOX and not flagged');
  assert.deepEqual(subjects(both), ['From at the beginning of lines']);
  const none = await listed(mailbox, 'not text ~ e');
  const some = await listed(mailbox, 'text ~ e');
  assert.equal(none.total.messages + some.total.messages, octetsHosted(mailbox.server).length);
});

test('all of the archive is listed in pages, in any order, with the folder that each was in', async () => {
  const mailbox = await archived(server());
  const count = octetsHosted(mailbox.server).length;
  for (const order of ['date', 'size', 'from', 'subject']) {
    const ids: number[] = [];
    let after: string | undefined;
    do {
      const page = await listed(mailbox, '', { order, limit: '4', ...(after ? { after } : {}) });
      assert.equal(page.total.messages, count);
      ids.push(...page.messages.map(({ id }: { id: number }) => id));
      after = page.next;
    } while (after !== undefined);
    assert.equal(ids.length, count, order);
    assert.equal(new Set(ids).size, count, order);
  }
  const { messages } = await listed(mailbox, 'folder = Committee/Minutes');
  assert.deepEqual(
    messages.map(({ folder, bag }: { folder: string; bag: number }) => [folder, bag]),
    [['Committee/Minutes', 1]],
  );
  await assert.rejects(listed(mailbox, 'guarded'), /Guards protect/);
  const figures = await mailbox.call('getArchive');
  assert.deepEqual(
    [figures.messages, figures.unread, figures.damaged.files, figures.onlyHere.files],
    [count, count, 0, count],
  );
});

test('a message is looked at as it was, and comes back octet for octet; so does a file of it', async () => {
  const fake = server();
  const sent = new Map(octetsHosted(fake).map((octets) => [sumOf(octets), octets]));
  const mailbox = await archived(fake);
  const { messages } = await listed(mailbox, '', { limit: '1000' });
  for (const { id } of messages) {
    const details = await mailbox.call('getArchivedMessage', undefined, { message: `${id}` });
    const response = await mailbox.response('downloadArchivedMessage', { message: `${id}` });
    const octets = Buffer.from(await response.arrayBuffer());
    assert.deepEqual(octets, sent.get(details.sha256), details.subject);
  }
  const outer = messages.find(({ subject }: { subject: string }) => subject === 'outer');
  const details = await mailbox.call('getArchivedMessage', undefined, { message: `${outer.id}` });
  assert.match(details.text, /Here they are/);
  assert.match(details.header, /^Subject: outer\r$/m);
  const picture = details.files.find(({ name }: { name: string }) => name === 'photo.jpg');
  const file = await mailbox.response('downloadArchivedFile', { message: `${outer.id}`, part: picture.part });
  assert.deepEqual(Buffer.from(await file.arrayBuffer()), octetsOf(3_000, 3));
  await assert.rejects(mailbox.call('getArchivedMessage', undefined, { message: '999' }), /does not exist/);
});

test('what matches is downloaded as files in a ZIP archive, each octet for octet, and a download that broke off goes on', async () => {
  const fake = server();
  const sums = octetsHosted(fake).map(sumOf).sort();
  const mailbox = await archived(fake);
  await mailbox.work();
  const download = async (query: object, headers = {}) => {
    const response = await mailbox.response('downloadArchive', {}, headers, undefined, query);
    return { response, octets: Buffer.from(await response.arrayBuffer()) };
  };
  const whole = await download({ where: '' });
  const etag = whole.response.headers.get('etag') as string;
  const rest = await download({ where: '' }, { range: 'bytes=1000-', 'if-range': etag });
  assert.deepEqual([rest.response.status, rest.octets.equals(whole.octets.subarray(1000))], [206, true]);
  const path = join(temporaryFolder(), 'archive.zip');
  writeFileSync(path, whole.octets);
  const script = `
import hashlib, json, sys, zipfile
archive = zipfile.ZipFile(sys.argv[1])
assert archive.testzip() is None
print(json.dumps({name: hashlib.sha256(archive.read(name)).hexdigest() for name in archive.namelist()}))`;
  const read = JSON.parse(execFileSync('python3', ['-c', script, path], { encoding: 'utf8' }));
  assert.deepEqual(Object.values(read).sort(), sums);
  const names = Object.keys(read);
  assert.equal(new Set(names.map((name) => name.toLowerCase())).size, names.length, 'in any letter case');
  for (const name of names)
    assert.ok(
      name.split('/').every((level) => !/^\.|[\0\\:]/.test(level) && level.length <= 150),
      name,
    );
  const some = await download({ where: 'text ~ bees' });
  assert.ok(some.octets.length < whole.octets.length);
  assert.equal((await download({ bag: 1 })).octets.length, whole.octets.length);
  for (const query of [{}, { where: '', bag: 1 }]) await assert.rejects(download(query), /Say one of/);
  await assert.rejects(download({ where: 'size > 1 GB' }), /No message/);
});

test('what is erased is found no more', async () => {
  const mailbox = await archived(server());
  await mailbox.work();
  assert.equal((await listed(mailbox, 'text ~ marrow or text ~ bees')).total.messages, 1);
  await mailbox.database.query(`update bag set place = 'download'`);
  await mailbox.call('deleteBag', undefined, { bag: '1' });
  for (const where of ['', 'text ~ bees']) assert.equal((await listed(mailbox, where)).total.messages, 0);
});

test('a text of a message of any length is read up to a limit, and it is said that there is more', async () => {
  const line = 'a line of a very long letter about marrows\r\n';
  const long = Buffer.from(
    `Subject: long\r\n\r\n${line.repeat(Math.ceil((9 * 2 ** 20) / line.length))}the end of it\r\n`,
  );
  let open = 0;
  async function* read() {
    open++;
    try {
      for (let at = 0; at < long.length; at += 100_000) yield long.subarray(at, at + 100_000);
    } finally {
      open--;
    }
  }
  const { text, isWhole } = await searchedText(read);
  assert.deepEqual([isWhole, text.includes('marrows'), text.includes('the end of it')], [false, true, false]);
  assert.ok(text.length <= 4 * 2 ** 20 + 100);
  assert.equal(open, 0, 'whoever reads it is told that no more is wanted');
});
