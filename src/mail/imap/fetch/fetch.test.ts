import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { ownSizes } from '../../../core/files/file';
import type { MessageRecord } from '../../../core/mailbox/record';
import { numbersOf, parseSequenceSet, type Ranges } from '../../../core/sets/ranges';
import { readAuthor } from '../../mime/author';
import { Dialogue } from '../channel/dialogue';
import { refusal } from '../channel/refusals';
import { Cursor } from '../wire/cursor';
import { readInternalDate } from '../wire/dates';
import { MAX_RESPONSE } from '../wire/framing';
import { cut, SetLength } from '../wire/sets';
import type { Status } from '../wire/status';
import { fetchCommand } from './bulk';
import { readRecord } from './record';
import { readFiles } from './structure';
import { FetchRate, Windows } from './windows';

/** What is read of octets that come in pieces of these sizes, over and over, as the answer to one UID FETCH. */
function read(octets: string, sizes: readonly number[] = [Number.MAX_SAFE_INTEGER]) {
  const records: MessageRecord[] = [];
  const unasked: string[] = [];
  const dialogue = new Dialogue({
    send: () => undefined,
    pour: async () => undefined,
    sendsLiterals: () => true,
    unasked: ({ word }) => unasked.push(word),
  });
  const fetch = { next: () => undefined, read: readRecord, passes: true, patience: 1_000 };
  const sent = dialogue.send(fetchCommand({ text: '1:*', messages: 10 }, fetch, (record) => records.push(record)));
  const bytes = Buffer.from(octets, 'utf8');
  for (let at = 0, turn = 0; at < bytes.length; turn++) {
    const size = sizes[turn % sizes.length] as number;
    dialogue.push(bytes.subarray(at, at + size));
    at += size;
  }
  return { records, unasked, status: sent.status, broken: dialogue.broken };
}

function filesIn(structure: string) {
  const cursor = new Cursor();
  const bytes = Buffer.from(structure);
  cursor.load(bytes, 0, bytes.length);
  return readFiles(cursor);
}

/** After the response to FETCH in RFC 9051 §8, its people and hosts renamed. */
const EXAMPLE = `* 12 FETCH (UID 312 FLAGS (\\Seen) INTERNALDATE "14-Jul-1993 02:44:25 -0700" RFC822.SIZE 4286 ENVELOPE ("Wed, 14 Jul 1993 02:23:25 -0700 (PDT)" "IMAP4rev2 WG mtg summary and minutes" (("Tamar Grebe" NIL "grebe" "cac.washing.example")) (("Tamar Grebe" NIL "grebe" "cac.washing.example")) (("Tamar Grebe" NIL "grebe" "cac.washing.example")) ((NIL NIL "imap" "cac.washing.example")) ((NIL NIL "minutes" "cnri.restoft.example") ("Joris Kleen" NIL "KLEEN" "mit.example")) NIL NIL "<B27397-0100000@cac.washing.example>") BODY ("TEXT" "PLAIN" ("CHARSET" "US-ASCII") NIL NIL "7BIT" 3028 92))\r\n`;

const ALL_FORMS = [
  '* OK [ALERT] this text ends like a literal {17}\r\n',
  '* 23 EXISTS\r\n* FLAGS (\\Answered \\Flagged)\r\n* 9 EXPUNGE\r\n',
  '* 7 FETCH (FLAGS (\\Seen))\r\n',
  '* VANISHED (EARLIER) 41,43:45\r\n',
  EXAMPLE,
  `* 13 fetch (X-THING (deep ("(" {3}\r\n)}\r NIL)) rfc822.size 0010 uid 313 internaldate " 1-Feb-2021 00:00:00 +0130" flags (NonJunk \\Flagged \\Later) BODYSTRUCTURE (("text" "html" NIL NIL NIL "8bit" 4 1)("application" "pdf" ("name" {9}\r\na "b".pdf) NIL NIL "base64" 66 NIL ("attachment" ("filename*0*" "utf-8''%e2%82%ac%20" "filename*1" "rates.pdf")) NIL NIL) "mixed" ("boundary" "x") NIL NIL NIL) ENVELOPE (NIL "quoted \\"\\\\ Grüße" (("=?utf-8?q?J=C3=B6rn?=" NIL "Joern" "Post.Example")) NIL NIL (("NIL" NIL "nil" "post.example")(NIL NIL "team" NIL)(NIL NIL "a" "b.example")(NIL NIL NIL NIL)) NIL NIL "" NIL) BODY[HEADER.FIELDS (REFERENCES LIST-ID)] {51}\r\nReferences: <a@b>\r\n <c@d>\r\nList-Id: L <l.example>\r\n MODSEQ (62))\r\n`,
  '+ go on\r\nT1 OK [HIGHESTMODSEQ 9] Done {12}\r\n',
].join('');

test('responses are read in all their forms, with others in between (RFC 9051 §7.5.2, §8, §9; RFC 7162 §3.2.10)', () => {
  const { records, unasked, status } = read(ALL_FORMS);
  assert.deepEqual(status, { kind: 'OK', code: 'HIGHESTMODSEQ', details: '9', words: 'Done {12}' });
  assert.deepEqual(unasked, ['OK', 'EXISTS', 'FLAGS', 'EXPUNGE', 'FETCH', 'VANISHED']);
  const [first, second] = records;
  assert.deepEqual(
    [first?.uid, first?.size, first?.flags, first?.received.toISOString(), first?.sent?.toISOString()],
    [312, 4286, 1, '1993-07-14T09:44:25.000Z', '1993-07-14T09:23:25.000Z'],
  );
  assert.deepEqual(first?.from, { name: 'Tamar Grebe', address: 'grebe@cac.washing.example' });
  assert.deepEqual(
    first?.recipients.map(({ address }) => address),
    ['imap@cac.washing.example', 'minutes@cnri.restoft.example', 'kleen@mit.example'],
  );
  assert.equal(first?.messageId, '<B27397-0100000@cac.washing.example>');
  assert.deepEqual(first?.flaws, ['structure']);
  assert.deepEqual(second, {
    uid: 313,
    emailId: null,
    size: 10,
    received: new Date('2021-01-31T22:30:00Z'),
    flags: 4,
    keywords: ['NonJunk'],
    messageId: '',
    inReplyTo: '',
    references: ['<a@b>', '<c@d>'],
    sent: null,
    from: { name: 'Jörn', address: 'joern@post.example' },
    recipients: [
      { name: 'NIL', address: 'nil@post.example' },
      { name: 'team', address: '' },
      { name: '', address: 'a@b.example' },
    ],
    subject: 'quoted "\\ Grüße',
    listId: 'l.example',
    bulkFields: {},
    files: [
      {
        name: '€ rates.pdf',
        type: 'application/pdf',
        size: 66,
        disposition: 'attachment',
        part: '2',
        encoding: 'base64',
        inside: 0,
        enclosed: false,
      },
    ],
    flaws: ['date'],
  });
  assert.equal(records.length, 2);
});

test('wherever the octets are split, the same is read', () => {
  const whole = read(ALL_FORMS);
  fc.assert(
    fc.property(fc.array(fc.integer({ min: 1, max: 90 }), { minLength: 1, maxLength: 40 }), (sizes) => {
      assert.deepEqual(read(ALL_FORMS, sizes), whole);
    }),
    { numRuns: 300 },
  );
  assert.deepEqual(read(ALL_FORMS, [1]), whole);
});

test('what can’t be read, or is too long, costs its own message and no other', () => {
  const sound = (uid: number) =>
    `* ${uid} FETCH (UID ${uid} RFC822.SIZE 1 INTERNALDATE "14-Jul-1993 02:44:25 -0700" FLAGS ())\r\n`;
  const long = 'x'.repeat(MAX_RESPONSE);
  const broken = [
    '* 5 FETCH (UID 5 RFC822.SIZE 1 ENVELOPE ("never closed\r\n',
    '* 5 FETCH (UID 5 RFC822.SIZE none)\r\n',
    '* 5 FETCH UID 5\r\n* 5 FETCH\r\n*\r\n\r\n* \r\n',
    `* 5 FETCH (UID 5 BODYSTRUCTURE ${'('.repeat(5_000)}\r\n`,
    `* 5 FETCH (UID 5 BODYSTRUCTURE ${'('.repeat(50_000)}"a"${')'.repeat(50_000)}\r\n`,
    '* 5 FETCH (UID 5 X {99999999999999999999}\r\n',
    `* 5 FETCH (UID 5 SUBJECT "${long}")\r\n`,
    `* 5 FETCH (UID 5 BODY[HEADER] {${long.length + 20}}\r\n${long} a {3}\r\n b {4}\r\n BODY[1] {4}\r\nT1 O)\r\n`,
  ];
  for (const response of broken) {
    for (const sizes of [[Number.MAX_SAFE_INTEGER], [65_536], [7_001]]) {
      const { records, status, broken } = read(`${sound(4)}${response}${sound(6)}T1 OK Done\r\n`, sizes);
      const uids = records.map(({ uid }) => uid);
      assert.deepEqual([uids, status?.kind, broken], [[4, 6], 'OK', undefined], response.slice(0, 60));
    }
  }
});

test('an answer to something that was not asked ends the dialogue, since no later one could be told apart', () => {
  for (const line of ['nonsense', 'T2 OK Done', 'T1 FINE', 'T1', 'OK T1'])
    assert.equal(read(`${line}\r\nT1 OK Done\r\n`).broken?.kind, 'unreadable-answer', line);
});

test('a refusal is told by its code (RFC 5530)', () => {
  const of = (line: string) => refusal(read(`${line}\r\n`).status as Status).kind;
  assert.equal(of('T1 NO [LIMIT] Slow down'), 'throttled');
  assert.equal(of('T1 BAD What?'), 'command-refused');
  assert.equal(of('T1 no [OverQuota] Full'), 'no-room');
});

test('files are found in structures as servers write them (RFC 9051 §7.5.2, RFC 2231 §3 and §4.1)', () => {
  // The second example of RFC 9051 §7.5.2.
  const two =
    '(("TEXT" "PLAIN" ("CHARSET" "US-ASCII") NIL NIL "7BIT" 1152 23)("TEXT" "PLAIN" ("CHARSET" "US-ASCII" "NAME" "cc.diff") "<960723163407.20117h@cac.washing.example>" "Compiler diff" "BASE64" 4554 73) "MIXED")';
  assert.deepEqual(
    filesIn(two)?.map(({ name, size }) => [name, size]),
    [['cc.diff', 4554]],
  );
  const named = (parameters: string) =>
    filesIn(`("APPLICATION" "X-STUFF" (${parameters}) NIL NIL "BASE64" 8)`)?.[0]?.name;
  // The examples of RFC 2231, for the parameter `name`.
  assert.equal(named(`"name*" "us-ascii'en-us'This%20is%20%2A%2A%2Afun%2A%2A%2A"`), 'This is ***fun***');
  assert.equal(
    named(
      `"name*0*" "us-ascii'en'This%20is%20even%20more%20" "name*1*" "%2A%2A%2Afun%2A%2A%2A%20" "name*2" "isn't it!"`,
    ),
    "This is even more ***fun*** isn't it!",
  );
  assert.equal(named(`"name*0" "part one, " "name*1" "part two"`), 'part one, part two');
  assert.equal(named(`"name" "=?iso-8859-1?q?caf=E9.txt?="`), 'café.txt');
  assert.equal(named(`"name*" "no-such-charset''%41.txt"`), 'A.txt');
  // What can't be read is text/plain (RFC 2045 §5.2): no file of a type that is none.
  assert.deepEqual(filesIn('(NIL NIL NIL NIL NIL "7bit" 900)'), []);
  assert.deepEqual(
    filesIn('("" "" ("name" "n.txt") NIL NIL "7bit" 900)')?.map(({ type }) => type),
    ['text/plain'],
  );
  // Some servers leave out the number of lines.
  const noLines = '("text" "plain" NIL NIL NIL "7bit" 5 NIL ("attachment" ("filename" "n.txt")) NIL NIL)';
  assert.equal(filesIn(noLines)?.[0]?.name, 'n.txt');
  assert.deepEqual(filesIn(`${'('.repeat(200)}"a" "b" NIL NIL NIL "7bit" 1)${' "mixed")'.repeat(199)}`), []);
});

/** An envelope with nothing in it. */
const ENVELOPE = '(NIL NIL NIL NIL NIL NIL NIL NIL NIL NIL)';
const leaf = (type: string, size: number) => {
  const [main, sub] = type.split('/');
  return `("${main}" "${sub}" NIL NIL NIL "BASE64" ${size}${main === 'text' ? ' 1' : ''} NIL NIL NIL NIL)`;
};
const enclosing = (inner: string, size: number) =>
  `("message" "rfc822" NIL NIL NIL "7bit" ${size} ${ENVELOPE} ${inner} 30 NIL ("attachment" ("filename" "m.eml")) NIL NIL)`;

test('files of enclosed messages are files, under the sections of RFC 9051 §6.4.5.1', () => {
  // The example of that section, from memory; its octets are made up.
  const stuff = leaf('application/octet-stream', 100);
  const inner = `(${leaf('text/plain', 10)}${stuff} "mixed")`;
  const alternative = `(${leaf('text/plain', 5)}${leaf('text/richtext', 6)} "alternative")`;
  const last = `(${leaf('image/gif', 40)}${enclosing(`(${leaf('text/plain', 5)}${alternative} "mixed")`, 60)} "mixed")`;
  const files = filesIn(`(${leaf('text/plain', 10)}${stuff}${enclosing(inner, 300)}${last} "mixed")`) ?? [];
  assert.deepEqual(
    files.map(({ part, type, size, inside, enclosed }) => [part, type, size, inside, enclosed]),
    [
      ['2', 'application/octet-stream', 100, 0, false],
      ['3', 'message/rfc822', 300, 1, false],
      ['3.2', 'application/octet-stream', 100, 0, true],
      ['4.1', 'image/gif', 40, 0, false],
      ['4.2', 'message/rfc822', 60, 1, false],
      ['4.2.2.2', 'text/richtext', 6, 0, true],
    ],
  );
  // What is in an enclosed message counts once.
  assert.deepEqual(ownSizes(files), [100, 200, 100, 40, 54, 6]);
  // A message that is nothing but another, whose only part is its first.
  assert.deepEqual(
    filesIn(enclosing(enclosing(leaf('image/png', 7), 20), 50))?.map(({ part, inside }) => [part, inside]),
    [
      ['1', 2],
      ['1.1', 1],
      ['1.1.1', 0],
    ],
  );
});

test('neither towers nor crowds of parts are followed without end', () => {
  const tower = (deep: number): string => (deep === 0 ? leaf('image/png', 7) : enclosing(tower(deep - 1), 9));
  const files = filesIn(tower(200)) ?? [];
  assert.ok(files.length <= 33);
  assert.deepEqual(filesIn(`(${leaf('image/png', 7).repeat(2_000)} "mixed")`)?.length, 500);
  assert.deepEqual(filesIn(`(${enclosing(leaf('image/png', 7), 9).repeat(2_000)} "mixed")`)?.length, 500);
});

test('dates of RFC 9051 §9 and authors of RFC 5322 §3.6.2 are read', () => {
  assert.equal(readInternalDate('17-Jul-1996 02:44:25 -0700').toISOString(), '1996-07-17T09:44:25.000Z');
  assert.equal(readInternalDate(' 7-Jul-1996 23:44:25 +0100').toISOString(), '1996-07-07T22:44:25.000Z');
  assert.equal(readInternalDate('nonsense').getTime(), 0);
  const address = 'pip@tidewatch.example';
  for (const [field, name] of [
    [address, ''],
    [`<${address}>`, ''],
    [`Pip Marsh <${address}>`, 'Pip Marsh'],
    [`"Marsh, Pip" <${address}>`, 'Marsh, Pip'],
    [`=?utf-8?q?P=C3=ADp?=\r\n <PIP@Tidewatch.example>`, 'Píp'],
    [`Pip (the \\) young) <${address}>, other@post.example`, 'Pip'],
  ] as const)
    assert.deepEqual(readAuthor(`From: ${field}\r\n\r\n`), { name, address }, field);
  assert.equal(readAuthor('\r\n'), null);
});

/** How long a set may be for a host of that length of its own. */
function lengthOf(octets: number): SetLength {
  const length = new SetLength(`host-of-${octets}.example`);
  length.shorten(`${'1'.repeat(octets)},${'2'.repeat(octets)}`);
  assert.equal(length.octets, octets);
  return length;
}

test('a host that answers BAD to long sets is asked for every message once, in shorter ones', () => {
  fc.assert(
    fc.property(
      fc.array(fc.tuple(fc.integer({ min: 1, max: 40 }), fc.integer({ min: 0, max: 9 })), {
        minLength: 1,
        maxLength: 400,
      }),
      fc.integer({ min: 20, max: 3_000 }),
      fc.uuid(),
      (gaps, longest, host) => {
        let at = 0;
        const uids = gaps.map(([gap, more]) => {
          const first = at + gap + 1;
          at = first + more;
          return [first, at] as const;
        });
        const windows = new Windows(uids, '(UID)', new FetchRate(), new SetLength(host));
        const underWay: string[] = [];
        const asked: number[] = [];
        for (let steps = 0; steps < 10_000; steps++) {
          for (let next = underWay.length < 2 && windows.next(); next; next = underWay.length < 2 && windows.next())
            underWay.push(next.text.split(' ')[0] as string);
          const set = underWay.shift();
          if (set === undefined) break;
          if (set.length > longest) assert.ok(windows.refused(), set);
          else {
            windows.answered(1_000);
            for (const uid of numbersOf(parseSequenceSet(set) as Ranges)) asked.push(uid);
          }
        }
        assert.deepEqual(
          asked.sort((a, b) => a - b),
          [...numbersOf(uids)],
        );
      },
    ),
  );
});

test('commands name every message once, no set longer than servers take, as many as the rate allows', () => {
  const scattered = Array.from({ length: 5_000 }, (_, index) => [index * 7 + 1, index * 7 + 2] as const);
  const windows = new Windows(scattered, '(UID)', new FetchRate(), lengthOf(7_000));
  const sets: string[] = [];
  for (let command = windows.next(); command; command = windows.next()) {
    sets.push(command.text.split(' ')[0] as string);
    windows.answered(40_000);
  }
  assert.equal(sets.join(','), [...cut(scattered, 7_000)].join(','));
  assert.ok(sets.every((set) => set.length <= 7_000));
  assert.equal(sets[0]?.split(',').length, 250);
  assert.ok(sets.length > 8 && sets.length < 60, `${sets.length}`);
});
