import assert from 'node:assert/strict';
import { createHash } from 'node:crypto';
import { test } from 'node:test';
import { quotableMessage } from './quotable';

const message = (...lines: string[]) => Buffer.from(lines.join('\r\n'), 'latin1');
const sha256 = (text: string) => createHash('sha256').update(text).digest('hex');

test('a message is its texts, each alternative by itself, its links and pictures from elsewhere, and its files', async () => {
  const found = await quotableMessage(
    message(
      'Content-Type: multipart/mixed; boundary=out',
      '',
      '--out',
      'Content-Type: multipart/alternative; boundary=in',
      '',
      '--in',
      'Content-Type: text/plain; charset=utf-8',
      'Content-Transfer-Encoding: quoted-printable',
      '',
      'See caf=C3=A9 at https://plots.example/a.',
      '--in',
      'Content-Type: text/html',
      '',
      '<p>See <a HREF="https://plots.example/b?x=1&amp;y=2">here</a><img src="https://plots.example/c.png"><img src="cid:1"></p>',
      '--in--',
      '--out',
      'Content-Type: image/png; name="c.png"',
      'Content-Transfer-Encoding: base64',
      '',
      Buffer.from('a picture').toString('base64'),
      '--out',
      'Content-Type: message/rfc822',
      '',
      'Subject: inside',
      '',
      'Inside.',
      '--out--',
      '',
    ),
  );
  assert.deepEqual(found?.texts, ['See café at https://plots.example/a.', 'See here']);
  assert.deepEqual(found?.links, ['https://plots.example/b?x=1&y=2', 'https://plots.example/c.png']);
  assert.ok(found?.addresses.has('https://plots.example/a.') && found.addresses.has('https://plots.example/c.png'));
  assert.deepEqual(found?.files, [sha256('a picture'), sha256('Subject: inside\r\n\r\nInside.')]);
});

test('what is signed, encrypted, cut off or can not be read is told to say nothing', async () => {
  const texts = [
    [
      'Content-Type: multipart/signed; boundary=b',
      '',
      '--b',
      '',
      'Text',
      '--b',
      'Content-Type: application/pgp-signature',
      '',
      'x',
      '--b--',
    ],
    ['Content-Type: application/pkcs7-mime', '', 'x'],
    ['Content-Type: multipart/mixed; boundary=b', '', '--b', '', 'Text'],
    ['Content-Type: text/plain; charset=utf-8', '', 'Gr\xfc\xdfe'],
  ];
  for (const lines of texts) assert.equal(await quotableMessage(message(...lines, '')), undefined, lines[0]);
});
