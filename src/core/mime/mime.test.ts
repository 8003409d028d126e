import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import libqp from 'libqp';
import { bodyFieldsOf } from './fields';
import { notePart } from './note';
import { quotedPrintable } from './quoted-printable';
import { type Piece, refusalOf, rewritten, sizeOf } from './rewrite';
import { type MimePart, MimeScanner, type MimeStructure } from './scanner';

function scanned(text: string, cuts: readonly number[] = []): MimeStructure {
  const octets = Buffer.from(text, 'latin1');
  const scanner = new MimeScanner();
  let at = 0;
  for (let turn = 0; at < octets.length; turn++) {
    const step = cuts.length === 0 ? octets.length : (cuts[turn % cuts.length] as number);
    scanner.push(octets.subarray(at, at + step));
    at += step;
  }
  return scanner.end();
}

const bodyOf = (text: string, part: MimePart) => text.slice(part.bodyFrom, part.bodyTo);
const lines = (...all: string[]) => all.join('\r\n');

test('the example of RFC 2046 §5.1.1 has a preamble, two parts and an epilogue', () => {
  // From memory; the people are made up.
  const message = lines(
    'From: Odile Marchbanks <odile@saltmarshlane.example>',
    'MIME-Version: 1.0',
    'Content-type: multipart/mixed; boundary="simple boundary"',
    '',
    'This is the preamble.  It is to be ignored, though it is a handy place for explanatory notes.',
    '--simple boundary',
    '',
    'This is implicitly typed plain US-ASCII text.',
    'It does NOT end with a linebreak.',
    '--simple boundary',
    'Content-type: text/plain; charset=us-ascii',
    '',
    'This is explicitly typed plain US-ASCII text.',
    'It DOES end with a linebreak.',
    '',
    '--simple boundary--',
    '',
    'This is the epilogue.  It is also to be ignored.',
    '',
  );
  const { parts, doubt } = scanned(message);
  assert.equal(doubt, undefined);
  assert.deepEqual(
    parts.map((part) => [part.section, part.type]),
    [
      ['', 'multipart/mixed'],
      ['1', 'text/plain'],
      ['2', 'text/plain'],
    ],
  );
  assert.ok(bodyOf(message, parts[1] as MimePart).endsWith('with a linebreak.'));
  assert.ok(bodyOf(message, parts[2] as MimePart).endsWith('with a linebreak.\r\n'));
  assert.ok(parts[0]?.isClosed);
});

test('types and boundaries are read as RFC 2045 §5.1 and RFC 5322 §3.2.2 allow', () => {
  const fields = (value: string) => bodyFieldsOf(`Content-Type: ${value}\r\n\r\n`);
  assert.equal(fields('multipart/mixed; boundary=gc0p4Jq0M2Yt08j34c0p').boundary, 'gc0p4Jq0M2Yt08j34c0p');
  assert.equal(fields('multipart/mixed; boundary="gc0pJq0M:08jU534c0p"').boundary, 'gc0pJq0M:08jU534c0p');
  assert.equal(fields('Multipart/Mixed (a; boundary=no);\r\n\tBOUNDARY="a\\"b;c"').boundary, 'a"b;c');
  assert.equal(fields('text/plain; charset=us-ascii (Plain text)').type, 'text/plain');
  assert.equal(fields('nonsense').type, 'text/plain');
  assert.equal(bodyFieldsOf('Content-Transfer-Encoding: BASE64 (x)\r\n').encoding, 'base64');
  assert.ok(bodyFieldsOf('Content-Type: a/b\r\nContent-type: c/d\r\n').isAmbiguous);
});

/** A part of a made-up message. */
type Tree =
  | { leaf: string[] }
  | { parts: Tree[]; preamble: string[]; epilogue: string[]; boundary: number }
  | { message: Tree };

const text = fc.array(
  fc.oneof(
    fc.string({ unit: 'grapheme-ascii', maxLength: 30 }),
    fc.constantFrom('', '-', '--', '---', '--b', '.', 'From x'),
  ),
  { maxLength: 4 },
);
const trees: fc.Arbitrary<Tree> = fc.letrec<{ tree: Tree }>((tie) => ({
  tree: fc.oneof(
    { depthSize: 'small', withCrossShrink: true },
    fc.record({ leaf: text }),
    fc.record({
      parts: fc.array(tie('tree'), { minLength: 1, maxLength: 3 }),
      preamble: text,
      epilogue: text,
      boundary: fc.nat(9),
    }),
    fc.record({ message: tie('tree') }),
  ),
})).tree;

/** Writes a message and tells where its leaves stand, by a way of its own: what is written, and how long it is by then. */
function written(root: Tree): { text: string; leaves: { section: string; from: number; to: number }[] } {
  let whole = '';
  const leaves: { section: string; from: number; to: number }[] = [];
  let boundaries = 0;
  const joined = (section: string, number: number) => (section === '' ? `${number}` : `${section}.${number}`);
  const write = (tree: Tree, section: string, isMessage: boolean) => {
    if ('leaf' in tree) {
      whole += 'Content-Type: application/x-leaf\r\n\r\n';
      const from = whole.length;
      whole += tree.leaf.join('\r\n');
      leaves.push({ section: isMessage ? joined(section, 1) : section, from, to: whole.length });
    } else if ('message' in tree) {
      whole += 'Content-Type: message/rfc822\r\n\r\nSubject: inner\r\n';
      write(tree.message, isMessage ? joined(section, 1) : section, true);
    } else {
      // Not the beginning of another: that would be ambiguous.
      const boundary = `edge ${tree.boundary}/${++boundaries}.`;
      whole += `Content-Type: multipart/mixed; boundary="${boundary}"\r\n\r\n${tree.preamble.map((line) => `${line}\r\n`).join('')}`;
      for (const [at, part] of tree.parts.entries()) {
        if (at > 0) whole += '\r\n';
        whole += `--${boundary}  \r\n`;
        write(part, joined(section, at + 1), false);
      }
      whole += `\r\n--${boundary}--\r\n${tree.epilogue.join('\r\n')}`;
    }
  };
  whole += 'Subject: outer\r\n';
  write(root, '', true);
  return { text: whole, leaves };
}

test('however deep parts are and wherever the octets are cut, each leaf is found where it was written', () => {
  fc.assert(
    fc.property(trees, fc.array(fc.integer({ min: 1, max: 60 }), { minLength: 1, maxLength: 9 }), (root, cuts) => {
      const { text: message, leaves } = written(root);
      const structure = scanned(message, cuts);
      assert.equal(structure.doubt, undefined);
      const found = structure.parts
        .filter(({ type }) => type === 'application/x-leaf')
        .map(({ section, bodyFrom, bodyTo }) => ({ section, from: bodyFrom, to: bodyTo }));
      assert.deepEqual(found, leaves);
      assert.deepEqual(scanned(message), structure);
    }),
    { numRuns: 500 },
  );
});

function applied(message: string, pieces: readonly Piece[]): string {
  return pieces
    .map((piece) =>
      'octets' in piece ? Buffer.from(piece.octets).toString('latin1') : message.slice(piece.from, piece.to),
    )
    .join('');
}

test('the line end behind an enclosed multipart is that of the next delimiter (RFC 2046 §5.1.1)', () => {
  const inside = 'Content-Type: multipart/mixed; boundary=in\r\n\r\n--in\r\n\r\ntext\r\n--in--';
  const head = 'Content-Type: multipart/mixed; boundary=out\r\n\r\n--out\r\nContent-Type: message/rfc822\r\n\r\n';
  const whole = `${head}${inside}\r\n--out\r\n\r\nmore\r\n--out--`;
  const scanner = new MimeScanner();
  scanner.push(Buffer.from(whole, 'latin1'));
  const structure = scanner.end();
  const part = structure.parts.find(({ type }) => type === 'message/rfc822');
  assert.deepEqual([part?.bodyFrom, part?.bodyTo], [head.length, head.length + inside.length]);
});

test('what is replaced changes, and nothing else does', () => {
  const with_ = 'Content-Type: text/plain\r\nX-New: yes\r\n\r\nIn its place.';
  fc.assert(
    fc.property(trees, fc.array(fc.nat(20), { maxLength: 4 }), (root, picks) => {
      const { text: message, leaves } = written(root);
      const structure = scanned(message);
      const chosen = [...new Set(picks.map((pick) => leaves[pick % leaves.length]?.section as string))];
      const pieces = rewritten(
        structure,
        chosen.map((section) => ({ section, with: with_ })),
      );
      const now = applied(message, pieces);
      assert.equal(sizeOf(pieces), now.length);
      const after = scanned(now);
      assert.equal(after.parts.length, structure.parts.length);
      for (const [at, part] of structure.parts.entries()) {
        const other = after.parts[at] as MimePart;
        assert.equal(other.section, part.section);
        const isChosen = part.type === 'application/x-leaf' && chosen.includes(part.section);
        if (isChosen) {
          assert.equal(bodyOf(now, other).trimEnd(), 'In its place.');
          assert.match(other.header, /X-New: yes/);
          if (part.isMessage) assert.match(other.header, /^Subject: (outer|inner)\r\n/);
        } else {
          assert.equal(other.header, part.header);
          if (part.type === 'application/x-leaf') assert.equal(bodyOf(now, other), bodyOf(message, part));
        }
      }
      // Taken back, it is the same message to the octet, unless the header of a whole message was its part's.
      if (chosen.length === 0) assert.equal(now, message);
    }),
    { numRuns: 500 },
  );
});

const MIXED = (inner: string, end = '\r\n--b--\r\n', type = 'mixed') =>
  `Subject: s\r\nContent-Type: multipart/${type}; boundary=b\r\n\r\n--b\r\n\r\nwords\r\n--b\r\n${inner}${end}`;
const FILE = 'Content-Type: image/jpeg; name=a.jpg\r\nContent-Transfer-Encoding: base64\r\n\r\nAAAA';

test('what can’t be rewritten exactly says why', () => {
  const refusal = (message: string, section = '2') => refusalOf(scanned(message), section);
  assert.equal(refusal(MIXED(FILE)), undefined);
  assert.equal(refusal(MIXED(FILE), '3'), 'malformed');
  assert.equal(refusal(MIXED(FILE, '')), 'malformed', 'a boundary that never ends');
  assert.equal(refusal(MIXED(FILE, '\r\n--bc--\r\n--b--\r\n')), 'malformed', 'a line that only begins like a boundary');
  assert.equal(refusal(MIXED(FILE, undefined, 'signed')), 'signed');
  assert.equal(refusal(MIXED(FILE, undefined, 'encrypted')), 'encrypted');
  assert.equal(refusal(MIXED(FILE, undefined, 'alternative')), 'alternative');
  assert.equal(refusal('Content-Type: application/pkcs7-mime; name=smime.p7m\r\n\r\nAAAA', '1'), 'encrypted');
  assert.equal(refusal(MIXED(`X: ${'y'.repeat(300_000)}\r\n${FILE}`)), 'malformed', 'a header without end');
  const tower = (deep: number): string =>
    deep === 0 ? FILE : `Content-Type: message/rfc822\r\n\r\n${tower(deep - 1)}`;
  assert.equal(refusal(tower(200), '1.1'), 'malformed', 'a tower of messages');
  assert.equal(refusal(tower(3), '1.1.1.1'), undefined);
});

test('a message that is nothing but a file keeps the fields that are not about it, in their order', () => {
  const message = `From: a@b.example\r\nContent-Type: image/png;\r\n name=a.png\r\nX-Later: 1\r\nContent-Transfer-Encoding: base64\r\nTo: c@d.example\r\n\r\nAAAA\r\n`;
  const note = notePart({ name: 'a.png', type: 'image/png', size: 3, sha256: '00', day: '2026-03-01', copy: 'bag' });
  const now = applied(message, rewritten(scanned(message), [{ section: '1', with: note }]));
  const [header = ''] = now.split('\r\n\r\n', 1);
  const kept = header.split('\r\n').filter((line) => /^(From|X-Later|To):/.test(line));
  assert.deepEqual(kept, ['From: a@b.example', 'X-Later: 1', 'To: c@d.example']);
  assert.match(now, /name="a\.png\.txt"/);
  assert.doesNotMatch(now, /AAAA/);
  assert.ok(now.endsWith('\r\n'));
});

test('the note is ASCII in short lines whatever the name, and its text comes back', () => {
  fc.assert(
    fc.property(fc.string({ unit: 'grapheme', maxLength: 300 }), (raw) => {
      const name = raw.replace(/[\p{Cc}\u2028\u2029]/gu, '').trim();
      const note = notePart({
        name,
        type: 'image/png',
        size: 3,
        sha256: '0'.repeat(64),
        day: '2026-03-01',
        copy: name,
      });
      assert.match(note, /^[\r\n\x20-\x7e]*$/);
      for (const line of note.split('\r\n')) assert.ok(line.length <= 78, line);
      const body = note.slice(note.indexOf('\r\n\r\n') + 4);
      assert.ok(
        libqp
          .decode(body)
          .toString('utf8')
          .includes(`Name: ${name === '' ? 'none' : name}`),
      );
    }),
  );
});

test('quoted-printable is what another library reads (RFC 2045 §6.7)', () => {
  fc.assert(
    fc.property(fc.array(fc.string({ unit: 'grapheme', maxLength: 120 })), (parts) => {
      const plain = parts.map((part) => part.replace(/[\r\n]/g, '')).join('\r\n');
      assert.equal(libqp.decode(quotedPrintable(plain)).toString('utf8'), plain);
    }),
  );
});
