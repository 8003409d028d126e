import assert from 'node:assert/strict';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { open } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { gzipSync } from 'node:zlib';
import fc from 'fast-check';
import { Header, Pax } from 'tar';
import { fromLine, quoted } from '../../core/archive/mbox';
import type { Quoting } from '../../core/brought/quoting';
import { FLAG_BITS } from '../../core/mailbox/flags';
import { zipped } from '../zip';
import { BroughtFile } from './brought-file';
import { CutOff } from './unreadable';

const folder = mkdtempSync(join(tmpdir(), 'brought-'));
after(() => rmSync(folder, { recursive: true }));

interface Found {
  folder: string;
  octets: string;
  received: string | undefined;
  flags: number | null;
  keywords: string[];
  isCut: boolean;
}

/** All messages of a file, and what it was told to be. */
async function found(octets: Buffer, asked?: Quoting, most?: number) {
  const path = join(folder, 'file');
  writeFileSync(path, octets);
  const file = await open(path);
  try {
    const brought = await BroughtFile.open(file, octets.length, join(folder, 'scratch'), asked, most);
    const messages: Found[] = [];
    let passed = 0;
    let before = 0;
    for await (const { message, done } of brought.items()) {
      assert.ok(done >= before && done <= 1, `${done}`);
      before = done;
      if (!message) {
        passed++;
        continue;
      }
      let isCut = false;
      const pieces: Uint8Array[] = [];
      try {
        for await (const piece of message.read()) pieces.push(piece);
      } catch (error) {
        if (!(error instanceof CutOff)) throw error;
        isCut = true;
      }
      const { received, flags, keywords } = message;
      const text = Buffer.concat(pieces).toString('latin1');
      messages.push({
        folder: message.folder,
        octets: text,
        received: received?.toISOString(),
        flags,
        keywords,
        isCut,
      });
    }
    await brought.close();
    return { messages, passed, format: brought.format, quoting: brought.quoting };
  } finally {
    await file.close();
  }
}

const LINE = 'From odile@quorn.example Sun Aug  6 09:05:07 2023\n';
const letter = (subject: string, body: string) => `Subject: ${subject}\n\n${body}`;
const mbox = (...messages: string[]) =>
  Buffer.from(messages.map((message) => `${LINE}${message}\n`).join(''), 'latin1');
const crlf = (text: string) => text.replaceAll('\n', '\r\n');
const bodies = ({ messages }: { messages: Found[] }) => messages.map(({ octets }) => octets);

test('each of the four quotings is told apart, and what was there is given back where that is certain', async () => {
  const inner = `${LINE}Subject: inside\n\nno message of its own\n`;
  const cl = (body: string) => `Content-Length: ${body.length}\n\n${body}`;
  const cases: [Quoting, string[], string[]][] = [
    ['none', [letter('a', 'hello\n')], [letter('a', 'hello\n')]],
    ['mboxo', [letter('a', 'hello\n>From here\n')], [letter('a', 'hello\n>From here\n')]],
    // The line before has one angle, and this one had one too.
    [
      'mboxrd',
      [letter('a', '>she wrote\n>>From here\nand\n>From there\n')],
      [letter('a', '>she wrote\n>From here\nand\nFrom there\n')],
    ],
    // As many as the line before: it was quoted by a reader, and not by the file.
    ['mboxo', [letter('a', '>>she wrote\n>>From here\n')], [letter('a', '>>she wrote\n>>From here\n')]],
    ['mboxcl', [cl('>From here\n'), cl('b\n')], [cl('>From here\n'), cl('b\n')]],
    ['mboxcl2', [cl(`From here\n\n${inner}`), cl('b\n')], [cl(`From here\n\n${inner}`), cl('b\n')]],
  ];
  for (const [quoting, messages, wanted] of cases) {
    const read = await found(mbox(...messages));
    assert.deepEqual([read.format, read.quoting], ['mbox', quoting]);
    assert.deepEqual(bodies(read), wanted.map(crlf), quoting);
    assert.deepEqual(new Set(read.messages.map(({ received }) => received)), new Set(['2023-08-06T09:05:07.000Z']));
  }
  // Where a person knows, that counts.
  assert.deepEqual(bodies(await found(mbox(letter('a', '>From here\n')), 'mboxrd')), [
    crlf(letter('a', 'From here\n')),
  ]);
});

test('a length that does not hold is not believed: no message hides another', async () => {
  const hiding = `Content-Length: 1000\n\nhello\n`;
  assert.equal((await found(mbox(hiding, letter('b', 'c\n'), letter('d', 'e\n')))).messages.length, 3);
  const longer = `Content-Length: 90\n\nhello\n`;
  assert.equal((await found(mbox(longer, letter('b', 'c\n'), letter('d', 'e\n')))).messages.length, 3);
  // Cut in the middle of the last one, whose length says so.
  const whole = mbox(`Content-Length: 6\n\nhello\n`, `Content-Length: 6\n\nhello\n`);
  const { messages } = await found(whole.subarray(0, whole.length - 4));
  assert.deepEqual(
    messages.map(({ isCut }) => isCut),
    [false, true],
  );
});

test('a line that no writer would have left unquoted before a message is one of the message', async () => {
  const text = letter('a', `From the minutes of 2023:\n\nFrom 9:30 on we met.\n\n${LINE}she wrote\n`);
  assert.deepEqual(bodies(await found(mbox(text, letter('b', '\n')))), [crlf(text), crlf(letter('b', '\n'))]);
});

test('an mbox file is what it was in any line ends and cut anywhere; what is cut off is kept as it is', async () => {
  const whole = mbox(letter('a', 'hello\n'), letter('b', 'there\n'));
  const withCrlf = Buffer.from(crlf(whole.toString('latin1')), 'latin1');
  assert.deepEqual(bodies(await found(withCrlf)), bodies(await found(whole)));
  const first = mbox(letter('a', 'hello\n')).length;
  for (let end = first + LINE.length; end < whole.length - 1; end++) {
    const { messages } = await found(whole.subarray(0, end));
    assert.equal(messages.length, 2, `${end}`);
    const rest = whole.subarray(first + LINE.length, end).toString('latin1');
    assert.equal(messages[1]?.octets.replaceAll('\r', ''), rest.replace(/(?<=\n)\n$/, ''));
    assert.equal(messages[1]?.isCut, !rest.endsWith('\n') && rest !== '', JSON.stringify(rest));
  }
});

test('whatever messages hold, an mbox file of ours gives them back, each octet, where it is known how it is quoted', async () => {
  const text = fc.array(fc.constantFrom('From ', '>From ', '>', '\n', '\n\n', 'Subject: x\n', 'a', ' ', LINE), {
    maxLength: 20,
  });
  await fc.assert(
    fc.asyncProperty(fc.array(text, { minLength: 1, maxLength: 4 }), async (all) => {
      const messages = all.map((parts) => crlf(`Subject: a\n\n${parts.join('')}\n`));
      const pieces: Buffer[] = [];
      for (const message of messages) {
        pieces.push(Buffer.from(fromLine('a@b.example', new Date(0 + 1e12))));
        async function* octets() {
          yield Buffer.from(message);
        }
        for await (const piece of quoted(octets())) pieces.push(Buffer.from(piece));
        pieces.push(Buffer.from('\n'));
      }
      assert.deepEqual(bodies(await found(Buffer.concat(pieces), 'mboxrd')), messages);
    }),
    { numRuns: 200 },
  );
});

/** A tar archive, its names in extended headers where they have to be. */
function tar(files: Record<string, { octets: string; mtime?: Date; type?: 'File' | 'SymbolicLink' }>): Buffer {
  const blocks: Buffer[] = [];
  const padded = (octets: Buffer) => Buffer.concat([octets, Buffer.alloc((512 - (octets.length % 512)) % 512)]);
  for (const [path, { octets, mtime = new Date(1e12), type = 'File' }] of Object.entries(files)) {
    const body = Buffer.from(octets, 'latin1');
    const header = new Header({ path, size: body.length, mtime, type, mode: 0o600, uid: 0, gid: 0 });
    const block = Buffer.alloc(512);
    if (header.encode(block)) blocks.push(new Pax({ path }).encode());
    blocks.push(block, padded(body));
  }
  return Buffer.concat([...blocks, Buffer.alloc(1024)]);
}

async function zip(files: Record<string, string>): Promise<Buffer> {
  const pieces: Uint8Array[] = [];
  const all = Object.entries(files).map(([path, text]) => {
    const octets = Buffer.from(text, 'latin1');
    async function* read() {
      yield octets;
    }
    return { path, size: octets.length, read };
  });
  for await (const piece of zipped(all)) pieces.push(piece);
  return Buffer.concat(pieces);
}

test('a Maildir as tar gives folders, flags, keywords and dates; packed with gzip it is the same', async () => {
  const mtime = new Date('2021-05-04T08:30:00Z');
  const long = `.${'Committee.'.repeat(20)}Minutes`;
  const archive = tar({
    'Maildir/cur/1.a:2,S': { octets: letter('in', 'x\n'), mtime },
    'Maildir/dovecot-keywords': { octets: '0 summer\n1 $Label\n' },
    'Maildir/.Work.Plans/cur/2.b:2,FRa': { octets: letter('plans', 'x\n') },
    'Maildir/.Work.Plans/dovecot-keywords': { octets: '0 winter\n' },
    'Maildir/new/3.c': { octets: letter('new', 'x\n') },
    'Maildir/cur/4.d:2,ab': { octets: letter('both', 'x\n') },
    [`Maildir/${long}/cur/5.e:2,`]: { octets: letter('long', 'x\n') },
    'Maildir/cur/link:2,S': { octets: '', type: 'SymbolicLink' },
  });
  for (const octets of [archive, gzipSync(archive)]) {
    const { messages, passed, format } = await found(octets);
    assert.deepEqual([format, passed, messages.length], ['tar', 2, 5]);
    const by = new Map(messages.map((message) => [/^Subject: (\w+)/.exec(message.octets)?.[1], message]));
    assert.deepEqual(
      [by.get('in')?.folder, by.get('in')?.flags, by.get('in')?.received],
      ['INBOX', 1, mtime.toISOString()],
    );
    assert.deepEqual([by.get('plans')?.folder, by.get('plans')?.keywords], ['Work/Plans', ['winter']]);
    assert.equal(by.get('plans')?.flags, FLAG_BITS.flagged | FLAG_BITS.answered);
    assert.equal(by.get('new')?.flags, 0);
    assert.deepEqual(by.get('both')?.keywords, ['summer', '$Label']);
    assert.match(by.get('long')?.folder ?? '', /^(Committee\/){20}Minutes$/);
  }
});

test('a ZIP archive of letters, of mbox files, and of both, gives each its folder', async () => {
  const { messages, passed, format } = await found(
    await zip({
      'saved/Council/a.eml': letter('a', 'x\n'),
      'saved/b.EML': letter('b', 'x\n'),
      'saved/Inbox.sbd/Plans.mbox': mbox(letter('c', 'x\n'), letter('d', 'x\n')).toString('latin1'),
      'saved/Old/Letters.mbox/mbox': mbox(letter('e', 'x\n')).toString('latin1'),
      'saved/noName': mbox(letter('f', 'x\n')).toString('latin1'),
      'saved/picture.jpg': 'no mail',
      'saved/empty': '',
    }),
  );
  assert.deepEqual([format, passed], ['zip', 2]);
  const folders = messages.map(({ folder: own, octets }) => `${/^Subject: (\w+)/.exec(octets)?.[1]} ${own}`);
  assert.deepEqual(folders.sort(), ['a Council', 'b ', 'c Inbox/Plans', 'd Inbox/Plans', 'e Old/Letters', 'f noName']);
});

test('octets of a ZIP archive that are not what was packed are kept, and told', async () => {
  const octets = await zip({ 'a.eml': letter('a', 'hello there\n'), 'b.eml': letter('b', 'x\n') });
  octets[octets.indexOf('hello')] = 0x4a;
  const { messages } = await found(octets);
  assert.deepEqual(
    messages.map(({ octets: text, isCut }) => [text, isCut]),
    [
      [crlf(letter('a', 'Jello there\n')), true],
      [crlf(letter('b', 'x\n')), false],
    ],
  );
});

test('what is no mail, damaged, or made to do harm is refused in a clear word, and never taken for an empty file', async () => {
  const refused = (octets: Buffer, kind: string, words: RegExp) =>
    assert.rejects(found(octets), (error: { kind?: string; message: string }) => {
      assert.deepEqual([error.kind, words.test(error.message)], [kind, true], error.message);
      return true;
    });
  await refused(Buffer.from('\x89PNG\r\n\x1a\n'), 'not-mail', /no file of mail/);
  await refused(Buffer.alloc(0), 'not-mail', /no file of mail/);
  await refused(Buffer.alloc(4_000), 'not-mail', /no file of mail/);
  const archive = await zip({ 'a.eml': letter('a', 'hello\n') });
  await refused(archive.subarray(0, archive.length - 30), 'damaged-archive', /damaged/);
  await refused(await zip({ '../../etc/a.eml': letter('a', 'x\n') }), 'leads-out', /leads out/);
  await refused(await zip({ '/etc/a.eml': letter('a', 'x\n') }), 'leads-out', /leads out/);
  await refused(tar({ 'a/../../b/cur/x:2,S': { octets: letter('a', 'x\n') } }), 'leads-out', /leads out/);
  const damaged = tar({ 'cur/1:2,S': { octets: letter('a', 'x\n') }, 'cur/2:2,S': { octets: letter('b', 'x\n') } });
  damaged[1024 + 5] = 0x7f;
  await refused(damaged, 'damaged-archive', /damaged/);
  // Bit 0 of the flags of both headers says that it is encrypted (APPNOTE 4.4.4).
  const locked = Buffer.from(archive);
  locked[6] = (locked[6] as number) | 1;
  const central = locked.indexOf('PK\x01\x02', 0, 'latin1');
  locked[central + 8] = (locked[central + 8] as number) | 1;
  locked.writeUInt16LE(8, central + 10);
  await refused(locked, 'encrypted', /encrypted/);
  await assert.rejects(found(gzipSync(Buffer.alloc(3_000_000)), undefined, 2_000_000), { kind: 'unpacks-to-too-much' });
});

test('an archive that says it unpacks to a terabyte, or whose files lie over each other, is not unpacked', async () => {
  const octets = await zip({ 'a.eml': letter('a', 'x\n'), 'b.eml': letter('b', 'x\n') });
  const central = octets.indexOf('PK\x01\x02', 0, 'latin1');
  const large = Buffer.from(octets);
  // Packed by deflate (8), to almost 4 GiB each (APPNOTE 4.4.5, 4.4.9).
  large.writeUInt16LE(8, central + 10);
  large.writeUInt32LE(0xfffffff0, central + 24);
  await assert.rejects(found(large), { kind: 'unpacks-to-too-much' });
  const over = Buffer.from(octets);
  over.writeUInt32LE(octets.length, central + 20);
  over.writeUInt32LE(octets.length, central + 24);
  await assert.rejects(found(over), { kind: 'damaged-archive' });
});

test('a tar archive that ends in the middle of a message gives what came of it', async () => {
  const archive = tar({
    'cur/1:2,S': { octets: letter('a', 'x\n') },
    'cur/2:2,S': { octets: letter('b', 'y'.repeat(2_000)) },
  });
  const { messages } = await found(archive.subarray(0, 1024 + 512 + 700));
  assert.deepEqual(
    messages.map(({ isCut }) => isCut),
    [false, true],
  );
  assert.equal(messages[1]?.octets.length, 701 + 1 - 2 + 2);
});
