import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { base64Body, base64Size, binaryBody, textBody } from './content';
import { bodyLines, bodySize } from './entity';
import { readAddresses, readInternalDate, writeInternalDate } from './header';
import { bodyStructure, envelope, rawItem, section } from './item';

test('base64 is as large as it says, decodes to the size asked for, and is the same every time', () => {
  fc.assert(
    fc.property(fc.nat(), fc.integer({ min: 1, max: 200_000 }), (seed, octets) => {
      const body = binaryBody(seed, octets);
      const written = body.write();
      assert.equal(written.length, base64Size(octets));
      assert.equal(bodySize(body), written.length);
      assert.equal(written.filter((octet) => octet === 10).length, bodyLines(body));
      assert.equal(Buffer.from(written.toString('latin1'), 'base64').length, octets);
      assert.ok(written.equals(binaryBody(seed, octets).write()));
    }),
    { numRuns: 60 },
  );
});

test('the start of what is in base64 is the start of the whole', () => {
  const octets = Buffer.from(Array.from({ length: 1_000 }, (_, at) => at & 255));
  const body = base64Body(octets.length, () => octets);
  const whole = body.write();
  assert.equal(Buffer.from(whole.toString('latin1'), 'base64').compare(octets), 0);
  assert.equal(whole.length, body.size);
  for (const most of [1, 77, 78, 79, 500])
    assert.ok(body.start?.(most).subarray(0, most).equals(whole.subarray(0, most)));
});

test('text quoted to a depth is as large as it says', () => {
  const body = textBody([
    { seed: 3, lines: 9, pool: ['one', 'two words', ''], depth: 2 },
    { line: 'as it is', depth: 1 },
  ]);
  assert.equal(body.write().length, body.size);
  assert.match(body.write().toString(), /^(> > (one|two words|)\r\n){9}> as it is\r\n$/);
});

test('addresses: the examples of RFC 5322 appendix A.1.2, A.1.3 and A.5', () => {
  const brief = (field: string) => readAddresses(field).map(({ name, mailbox, host }) => [name, mailbox, host]);
  assert.deepEqual(brief('"Joe Q. Public" <john.q.public@example.com>'), [
    ['Joe Q. Public', 'john.q.public', 'example.com'],
  ]);
  assert.deepEqual(brief('Mary Smith <mary@x.test>, jdoe@example.org, Who? <one@y.test>'), [
    ['Mary Smith', 'mary', 'x.test'],
    [null, 'jdoe', 'example.org'],
    ['Who?', 'one', 'y.test'],
  ]);
  assert.deepEqual(brief('<boss@nil.test>, "Giant; \\"Big\\" Box" <sysservices@example.net>'), [
    [null, 'boss', 'nil.test'],
    ['Giant; "Big" Box', 'sysservices', 'example.net'],
  ]);
  assert.deepEqual(brief('A Group:Ed Jones <joe@where.test>,jdoe@one.test;'), [
    [null, 'A Group', null],
    ['Ed Jones', 'joe', 'where.test'],
    [null, 'jdoe', 'one.test'],
    [null, null, null],
  ]);
  assert.deepEqual(brief('Pete(A nice \\) chap) <pete(his account)@silly.test(his host)>'), [
    ['Pete', 'pete', 'silly.test'],
  ]);
});

test('ENVELOPE and BODYSTRUCTURE of a message that a client brought', () => {
  const raw =
    'From: A <a@post.example>\r\nSubject: parts\r\nContent-Type: multipart/mixed; boundary="x"\r\n\r\npreamble\r\n--x\r\n\r\nplain\r\n--x\r\nContent-Type: text/html\r\n\r\n<p>\r\n--x--\r\n';
  const item = rawItem(Buffer.from(raw));
  assert.equal(item.size, raw.length);
  assert.match(envelope(item.entity().head), /^\(NIL "parts" \(\("A" NIL "a" "post.example"\)\)/);
  assert.equal(
    bodyStructure(item.entity(), false),
    '(("TEXT" "PLAIN" ("CHARSET" "us-ascii") NIL NIL "7BIT" 5 0)("TEXT" "HTML" NIL NIL NIL "7BIT" 3 0) "MIXED")',
  );
  assert.equal(section(item, '2')?.toString(), '<p>');
  assert.equal(section(item, 'HEADER.FIELDS (Subject)')?.toString(), 'Subject: parts\r\n\r\n');
  assert.equal(section(item, '3'), null);
});

test('INTERNALDATE goes both ways, zones counted', () => {
  assert.equal(writeInternalDate(readInternalDate('17-Jul-1996 02:44:25 -0700') ?? 0), '17-Jul-1996 09:44:25 +0000');
  assert.equal(readInternalDate('32-Foo-1996 02:44:25 -0700'), undefined);
});
