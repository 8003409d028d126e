import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { TwinDigesting, type TwinDigests } from './twin-digests';

function digestsOf(text: string, pieces: number[] = []): Record<keyof TwinDigests, string | undefined> {
  const octets = Buffer.from(text, 'latin1');
  const digesting = new TwinDigesting();
  let at = 0;
  for (const length of pieces) {
    digesting.add(octets.subarray(at, at + length));
    at = Math.min(octets.length, at + length);
  }
  digesting.add(octets.subarray(at));
  const { octets: whole, kept, content } = digesting.end();
  return { octets: whole.toString('hex'), kept: kept?.toString('hex'), content: content?.toString('hex') };
}

const HEADER = [
  'From: Hetty Quorn <hetty@allotment.example>',
  'To: secretary@saltmarshlane.example',
  'Subject: Minutes',
  'Date: Tue, 11 May 2021 10:00:00 +0000',
  'Message-ID: <minutes@allotment.example>',
  'Content-Type: text/plain',
];
const message = (header: readonly string[], text = 'As agreed.\r\n') => `${header.join('\r\n')}\r\n\r\n${text}`;

test('what is equal: octets, what is left without transport fields, what is in it', () => {
  const one = digestsOf(message(HEADER));
  const arrived = digestsOf(
    message(['Received: from a\r\n\tby b', 'X-Spam-Score: 1', 'DELIVERED-TO: me', ...HEADER, 'Status: RO']),
  );
  assert.notEqual(one.octets, arrived.octets);
  assert.deepEqual([arrived.kept, arrived.content], [one.kept, one.content]);
  const sent = digestsOf(message(['Bcc: tobin@allotment.example', 'X-Mailer: any', ...[...HEADER].reverse()]));
  assert.notEqual(sent.kept, one.kept);
  assert.equal(sent.content, one.content);
  const folded = digestsOf(message(HEADER.map((field) => field.replace('Subject: ', 'subject:\r\n  '))));
  assert.equal(folded.content, one.content);
});

test('what is not equal: another text, another file, another author, subject, date or type', () => {
  const one = digestsOf(message(HEADER));
  const others = [
    message(HEADER, 'As agreed. \r\n'),
    message(HEADER, 'As agreed.\r\n\r\n'),
    ...HEADER.map((field, at) => message(HEADER.with(at, `${field}x`))),
    ...HEADER.map((_, at) => message(HEADER.toSpliced(at, 1))),
    message([...HEADER, 'Content-Transfer-Encoding: base64']),
    message([...HEADER, HEADER[2] as string]),
  ];
  for (const other of others) assert.notEqual(digestsOf(other).content, one.content, other);
  // What stands in the text is no field, and what stands in the header no text.
  assert.notEqual(digestsOf(message(HEADER, `Received: x\r\n\r\nAs agreed.\r\n`)).kept, one.kept);
  assert.notEqual(digestsOf(message([...HEADER, 'A: b'], '')).kept, digestsOf(message(HEADER, 'A: b\r\n')).kept);
});

test('without a Message-ID, or without a header, nothing is told by its content', () => {
  assert.equal(digestsOf(message(HEADER.filter((field) => !field.startsWith('Message')))).content, undefined);
  assert.equal(digestsOf(message(HEADER.with(4, 'Message-ID:'))).content, undefined);
  assert.equal(digestsOf('\r\nMessage-ID: <a@b.example>\r\n\r\n').content, undefined);
  const long = digestsOf(message([...HEADER, ...Array(30_000).fill(`X-Long: ${'x'.repeat(70)}`)]));
  assert.deepEqual([long.kept, long.content], [undefined, undefined]);
});

test('pieces make no difference, wherever they end', () => {
  for (const text of [message(HEADER, 'x'.repeat(1_100_000)), `\r\n${'x'.repeat(1_100_000)}`])
    for (const pieces of [Array(1_000).fill(1), [2, 1, 1], [1, 1, 1]])
      assert.deepEqual(digestsOf(text, pieces), digestsOf(text));
  for (const length of [-3, -2, -1, 0, 1, 2]) {
    const header = `A: ${'x'.repeat(2 ** 20 + length - 5)}\r\n`;
    const text = `${header}\r\ntext`;
    assert.equal(digestsOf(text).kept === undefined, header.length > 2 ** 20);
    for (const pieces of [[2 ** 20 - 2, 1, 1, 1, 1, 1, 1], [2 ** 20 + 4], [2 ** 20 + 1, 1, 1]])
      assert.deepEqual(digestsOf(text, pieces), digestsOf(text), `${length} ${pieces}`);
  }
  const texts = fc.constantFrom(
    message(HEADER),
    message(HEADER, ''),
    HEADER.join('\r\n'),
    '\r\n\r\nx',
    '\r\n',
    '',
    message(['Received: x\r\n y', ...HEADER], 'a\r\n\r\nb'),
  );
  fc.assert(
    fc.property(texts, fc.array(fc.integer({ min: 0, max: 40 }), { maxLength: 30 }), (text, pieces) => {
      assert.deepEqual(digestsOf(text, pieces), digestsOf(text));
    }),
    { numRuns: 500 },
  );
});
