import assert from 'node:assert/strict';
import { test } from 'node:test';
import { type Piece, rewritten } from './rewrite';
import { MimeScanner } from './scanner';
import { smallerPart } from './smaller';

const SHA = 'ab'.repeat(32);

function structureOf(text: string) {
  const scanner = new MimeScanner();
  scanner.push(Buffer.from(text, 'latin1'));
  return scanner.end();
}

function replaced(text: string, section: string, octets: Uint8Array): string {
  const structure = structureOf(text);
  const part = structure.parts.find((one) => one.section === section);
  assert.ok(part);
  const whole = Buffer.from(text, 'latin1');
  const pieces: Piece[] = rewritten(structure, [{ section, with: smallerPart(part, octets, SHA) }]);
  return Buffer.concat(
    pieces.map((piece) => ('octets' in piece ? piece.octets : whole.subarray(piece.from, piece.to))),
  ).toString('latin1');
}

const lines = (...parts: string[]) => parts.join('\r\n');

test('the header stays but for what it says of the octets, and everything around the part stays', () => {
  const octets = Uint8Array.from({ length: 130 }, (_, at) => at);
  const base64 = Buffer.from(octets)
    .toString('base64')
    .replace(/.{76}(?=.)/g, '$&\r\n');
  const around = (header: string[], body: string) =>
    lines(
      'Subject: Gr\xfc\xdfe',
      'Content-Type: multipart/mixed; boundary=edge',
      '',
      'preamble',
      '--edge',
      '',
      'Look.',
      '--edge',
      ...header,
      '',
      body,
      '--edge--',
      'epilogue',
    );
  const before = around(
    [
      'Content-Type: image/jpeg;',
      '\tname="b\xf6.jpg"',
      'CONTENT-transfer-Encoding: BASE64',
      'Content-Disposition: attachment; size="9999";',
      ' filename="b;size=3.jpg"',
      'Content-MD5: Q2hlY2sgSW50ZWdyaXR5IQ==',
      'X-Attachment-Id: f_1',
    ],
    'QUJD',
  );
  const after = around(
    [
      'Content-Type: image/jpeg;',
      '\tname="b\xf6.jpg"',
      'Content-Disposition: attachment; size="130";',
      ' filename="b;size=3.jpg"',
      'X-Attachment-Id: f_1',
      'Content-Transfer-Encoding: base64',
      'Content-Description: Made smaller; SHA-256 of the original:',
      ` ${SHA}`,
    ],
    base64,
  );
  assert.equal(replaced(before, '2', octets), after);
});

test('of a message that is nothing but the picture the other fields stay in their order', () => {
  const before = lines(
    'From: odile@quorn.example',
    'Content-Type: image/png',
    'Subject: the beds',
    'Content-Transfer-Encoding: base64',
    'Content-Description: beds',
    'Date: Tue, 04 May 2021 10:09:00 +0200',
    '',
    'QUJD',
    '',
  );
  const after = replaced(before, '1', Uint8Array.of(1, 2, 3));
  assert.match(after, /^From: odile@quorn\.example\r\n/);
  assert.match(after, /Content-Type: image\/png\r\nContent-Description: beds\r\nContent-Transfer-Encoding: base64\r\n/);
  assert.match(after, /Subject: the beds\r\n/);
  assert.match(after, /\r\n\r\nAQID\r\n$/);
  assert.equal(after.match(/Content-Transfer-Encoding/gi)?.length, 1);
});
