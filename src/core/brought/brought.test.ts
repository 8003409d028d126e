import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { FLAG_BITS } from '../mailbox/flags';
import { beginsMessage, readFromLine } from './from-line';
import { withMailLineEnds } from './line-ends';
import { maildirFolder, maildirKeywords, maildirPlace } from './maildir';
import { contentLengthOf, quotingOf } from './quoting';
import { statusFlags } from './status-fields';

test('the line before a message is told in the forms that writers use, and its instant is read', () => {
  const instant = '2023-08-06T09:05:07.000Z';
  for (const line of [
    // RFC 4155, appendix A; the form of asctime (ISO C).
    'From odile@quorn.example Sun Aug  6 09:05:07 2023',
    'From odile@quorn.example  Sun Aug  6 09:05:07 2023  ',
    // From memory: writers that put a zone before or behind the year, and the form of a Date field.
    'From odile@quorn.example Sun Aug  6 11:05:07 +0200 2023',
    'From odile@quorn.example Sun Aug  6 09:05:07 GMT 2023',
    'From odile@quorn.example Sun Aug  6 05:05:07 2023 -0400',
    'From odile@quorn.example Sun, 6 Aug 2023 09:05:07 +0000',
    'From MAILER-DAEMON Sun Aug  6 09:05:07 2023',
    'From - Sun Aug 06 09:05:07 2023',
    'From a b@c Sun Aug  6 09:05:07 2023',
  ])
    assert.equal(readFromLine(line)?.toISOString(), instant, line);
  assert.equal(
    readFromLine('From odile@quorn.example Sun Aug  6 09:05 2023')?.toISOString(),
    '2023-08-06T09:05:00.000Z',
  );
  for (const line of [
    'From what I hear, the hall is free.',
    'From 9:30 on we meet in 2023',
    'From the minutes of Aug 6',
    '>From odile@quorn.example Sun Aug  6 09:05:07 2023',
    'From: odile@quorn.example Sun Aug  6 09:05:07 2023',
    `From ${'x'.repeat(2_000)} Sun Aug  6 09:05:07 2023`,
    '',
  ])
    assert.equal(readFromLine(line), undefined, line);
  assert.equal(
    readFromLine('From x Sun Aug  6 09:05:07 0001'),
    null,
    'no instant, and a line before a message all the same',
  );
});

test('what follows a line, and an empty line before it, tell whether it begins a message', () => {
  const line = 'From odile@quorn.example Sun Aug  6 09:05:07 2023';
  assert.equal(beginsMessage(line, false, 'Subject: hello'), true);
  assert.equal(beginsMessage(line, true, undefined), true);
  assert.equal(beginsMessage(line, true, ''), true);
  assert.equal(beginsMessage(line, false, ''), false);
  assert.equal(beginsMessage(line, true, 'she wrote that'), false);
  assert.equal(beginsMessage('From here on', true, 'Subject: hello'), false);
});

test('each quoting is told by its signs, and in doubt nothing is taken away', () => {
  const none = { plain: 0, quoted: 0, oneMore: 0, asMany: 0 };
  assert.equal(quotingOf(none, false), 'none');
  assert.equal(quotingOf(none, true), 'none');
  assert.equal(quotingOf({ ...none, plain: 2 }, true), 'mboxcl2');
  assert.equal(quotingOf({ ...none, quoted: 2 }, true), 'mboxcl');
  assert.equal(quotingOf({ ...none, quoted: 2 }, false), 'mboxo');
  assert.equal(quotingOf({ ...none, quoted: 2, oneMore: 1 }, false), 'mboxrd');
  assert.equal(quotingOf({ ...none, quoted: 2, oneMore: 1, asMany: 1 }, false), 'mboxo', 'signs that do not agree');
});

test('how long a message says it is is a whole number, and no more is believed', () => {
  assert.equal(contentLengthOf('Subject: a\r\nContent-Length: 123\r\n\r\n'), 123);
  assert.equal(contentLengthOf('CONTENT-LENGTH : 5\n\n'), 5);
  for (const field of ['-1', '1e9', '0x10', '12 34', '', '9'.repeat(16)])
    assert.equal(contentLengthOf(`Content-Length: ${field}\n\n`), undefined, field);
  assert.equal(contentLengthOf('X-Content-Length: 5\n\n'), undefined);
});

async function through(pieces: readonly Buffer[]): Promise<string> {
  async function* octets() {
    yield* pieces;
  }
  const given: Uint8Array[] = [];
  for await (const piece of withMailLineEnds(octets())) given.push(piece);
  return Buffer.concat(given).toString('latin1');
}

test('a file whose first line ends with LF alone gets the line ends of mail, however it is cut; any other stays as it is', async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.array(fc.constantFrom('\n', '\r\n', '\r', 'a', 'bc', ''), { maxLength: 30 }),
      fc.array(fc.integer({ min: 1, max: 5 }), { minLength: 1, maxLength: 5 }),
      async (parts, sizes) => {
        const text = parts.join('');
        const isBare = /^[^\n]*(?<!\r)\n/.test(text);
        const pieces: Buffer[] = [];
        for (let at = 0, turn = 0; at < text.length; turn++) {
          const size = sizes[turn % sizes.length] as number;
          pieces.push(Buffer.from(text.slice(at, at + size), 'latin1'));
          at += size;
        }
        assert.equal(await through(pieces), isBare ? text.replace(/(?<!\r)\n/g, '\r\n') : text);
      },
    ),
    { numRuns: 2_000 },
  );
});

test('a path of a Maildir tells flags, keywords and folder, with whatever stands for the colon', () => {
  for (const mark of [':', ';', '!', '_', '-']) {
    const found = maildirPlace(`Mail/.Work.Plans/cur/1691312707.M1P2.host,S=5${mark}2,FRSab`);
    assert.deepEqual(found, {
      levels: ['Mail', '.Work.Plans'],
      flags: FLAG_BITS.flagged | FLAG_BITS.answered | FLAG_BITS.seen,
      keywords: [],
      letters: ['a', 'b'],
      delivered: new Date('2023-08-06T09:05:07Z'),
    });
  }
  assert.equal(maildirPlace('Mail/new/1691312707.x:2,S')?.flags, 0, 'what lies in new was not shown yet');
  assert.deepEqual(maildirPlace('cur/x:2,PT')?.keywords, ['$Forwarded']);
  for (const path of [
    'Mail/tmp/1.x',
    'Mail/cur',
    'Mail/dovecot.index',
    'Mail/cur/.hidden',
    'a/new/dovecot-x',
    'letter.eml',
  ])
    assert.equal(maildirPlace(path), undefined, path);
  assert.equal(maildirFolder([]), 'INBOX');
  assert.equal(maildirFolder(['.Work.Plans']), 'Work/Plans');
  assert.equal(maildirFolder(['.Entw&APw-rfe']), 'Entwürfe');
  assert.equal(maildirFolder(['Work', 'Plans']), 'Work/Plans');
  assert.deepEqual(
    [...maildirKeywords('0 $MDNSent\n2 summer\n99 x\nnonsense\n26 y\n')],
    [
      ['a', '$MDNSent'],
      ['c', 'summer'],
    ],
  );
});

test('flags that programs wrote into the header are read; without such fields nothing is told', () => {
  assert.equal(
    statusFlags('Subject: a\nStatus: RO\nX-Status: AF\n\n'),
    FLAG_BITS.seen | FLAG_BITS.answered | FLAG_BITS.flagged,
  );
  assert.equal(statusFlags('Status: O\n\n'), 0);
  assert.equal(statusFlags('Subject: Status: RO\n\n'), undefined);
});
