import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { filePath } from './file-path';
import { numbered, safeName } from './safe-name';

test('names keep what a person recognises, and lose what a file system does not take', () => {
  assert.equal(safeName('open-day-03.jpg', 'x'), 'open-day-03.jpg');
  assert.equal(safeName('Grüße aus dem Moor.pdf', 'x'), 'Grüße aus dem Moor.pdf');
  assert.equal(safeName('../../etc/passwd', 'x'), '_.._etc_passwd');
  assert.equal(safeName('..\\..\\boot.ini', 'x'), '_.._boot.ini');
  assert.equal(safeName('/////', 'x'), 'x');
  assert.equal(safeName('. . .', 'x'), 'x');
  assert.equal(safeName('CON', 'x'), '_CON');
  assert.equal(safeName('lpt1.txt', 'x'), '_lpt1.txt');
  assert.equal(safeName('console.txt', 'x'), 'console.txt');
  assert.equal(safeName('bill.pdf. ', 'x'), 'bill.pdf');
  assert.equal(safeName('a\u202efdp.exe', 'x'), 'afdp.exe');
  assert.equal(safeName('a\0b\r\nc.txt', 'x'), 'abc.txt');
  assert.equal(safeName('100% wool.jpg', 'x'), '100_ wool.jpg');
  assert.equal(safeName('e\u0301te\u0301.txt', 'x'), 'été.txt');
  const long = safeName(`${'a'.repeat(10_000)}.jpeg`, 'x');
  assert.ok(long.length <= 150 && long.endsWith('a.jpeg'));
});

test('whatever a name is, what is made of it is safe on the three common systems, and stays as it is', () => {
  fc.assert(
    fc.property(
      fc.oneof(
        fc.string({ unit: 'binary', maxLength: 400 }),
        fc.string({ unit: 'grapheme', maxLength: 400 }),
        fc.stringMatching(/^[./\\ :a-z%]{0,40}$/),
      ),
      fc.integer({ min: 2, max: 99_999 }),
      (name, number) => {
        for (const safe of [safeName(name, 'file'), numbered(safeName(name, 'file'), number)]) {
          assert.ok([...safe].length >= 1 && [...safe].length <= 150, safe);
          assert.ok(Buffer.byteLength(safe) <= 255);
          assert.equal(safe, safe.normalize('NFC'));
          assert.doesNotMatch(safe, /[/\\:*?"<>|%\p{Cc}\p{Cf}]/u);
          assert.doesNotMatch(safe, /^[. ]|[. ]$/);
          assert.doesNotMatch(safe, /^(con|prn|aux|nul|com\d|lpt\d)(\.|$)/i);
          assert.equal(safeName(safe, 'file'), safe);
        }
      },
    ),
    { numRuns: 2_000 },
  );
});

test('a file lies by year, day and author', () => {
  const file = { name: 'open-day-03.jpg', type: 'image/jpeg', day: '2023-08-06', author: 'Odile Marchbanks' };
  assert.deepEqual(filePath(file), { folder: '2023/2023-08-06 Odile Marchbanks', name: 'open-day-03.jpg' });
  assert.deepEqual(filePath({ ...file, name: '', author: '' }), {
    folder: '2023/2023-08-06 unknown sender',
    name: 'file.jpg',
  });
});

test('a sender with a name of five hundred letters has a folder that every common system takes', () => {
  for (const letter of ['n', '漢', '😀']) {
    const { folder } = filePath({ name: 'a.jpg', type: 'image/jpeg', day: '2023-08-06', author: letter.repeat(500) });
    const [year, named = ''] = folder.split('/');
    assert.deepEqual([year, named.slice(0, 11)], ['2023', '2023-08-06 ']);
    assert.ok([...named].length <= 150 && Buffer.byteLength(named) <= 255, named);
  }
});
