import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { after, test } from 'node:test';
import fc from 'fast-check';
import { maildirFiles } from './maildir';
import { sizeOfTar, type TarredFile, tarred } from './tar';

const folder = mkdtempSync(join(tmpdir(), 'tar-'));
after(() => rmSync(folder, { recursive: true }));

async function all(octets: AsyncIterable<Uint8Array>): Promise<Buffer> {
  const pieces: Uint8Array[] = [];
  for await (const piece of octets) pieces.push(piece);
  return Buffer.concat(pieces);
}

function file(path: string, text: string): TarredFile & { reads: number } {
  const made = {
    path,
    size: Buffer.byteLength(text),
    modified: new Date('2023-08-06T09:05:07.900Z'),
    reads: 0,
    async *read() {
      made.reads++;
      for (let at = 0; at < text.length; at += 100) yield Buffer.from(text.slice(at, at + 100), 'latin1');
    },
  };
  return made;
}

const NAMES = [
  'a',
  'Maildir/cur/1.M2.tamsel,S=3:2,S',
  `${'long/'.repeat(60)}name`,
  'Entwürfe/ü',
  `n${'n'.repeat(180)}`,
];

test('the system’s tar reads an archive: names of any length and letters, sizes, times, and every octet', async () => {
  const files = [file('folder/', ''), ...NAMES.map((name, at) => file(name, 'x'.repeat(at * 511)))];
  const size = sizeOfTar(files);
  const octets = await all(tarred(files, 0, size - 1));
  assert.equal(octets.length, size);
  const path = join(folder, 'archive.tar');
  writeFileSync(path, octets);
  execFileSync('tar', ['-xf', path, '-C', folder]);
  for (const [at, name] of NAMES.entries()) {
    assert.equal(readFileSync(join(folder, name), 'latin1'), 'x'.repeat(at * 511), name);
    assert.equal(statSync(join(folder, name)).mtime.toISOString(), '2023-08-06T09:05:07.000Z', name);
  }
});

test('any range of an archive is that part of the whole, and files outside it are not read', async () => {
  const files = NAMES.map((name, at) => file(name, String.fromCharCode(97 + at).repeat(at * 700)));
  const size = sizeOfTar(files);
  const whole = await all(tarred(files, 0, size - 1));
  await fc.assert(
    fc.asyncProperty(fc.nat(size - 1), fc.nat(size - 1), async (one, other) => {
      const [first, last] = [Math.min(one, other), Math.max(one, other)];
      assert.ok((await all(tarred(files, first, last))).equals(whole.subarray(first, last + 1)), `${first}-${last}`);
    }),
    { numRuns: 300 },
  );
  for (const each of files) each.reads = 0;
  await all(tarred(files, size - 100, size - 1));
  assert.deepEqual(
    files.map(({ reads }) => reads),
    [0, 0, 0, 0, 0],
  );
});

test('a file that has not the size that it is said to have ends the archive', async () => {
  const files = [{ ...file('a', 'four'), size: 5 }];
  await assert.rejects(all(tarred(files, 0, sizeOfTar(files) - 1)), /has 4 octets, and had 5/);
});

test('a Maildir has its folders beside the inbox, its keywords in a list, and no name that leads out of it', () => {
  const message = (id: number, path: string, keywords: string[]) => {
    const { read } = file('', 'x');
    return { id, folder: path, size: 1, received: new Date(1e12), flags: 1 + 4, keywords, read };
  };
  const files = maildirFiles([
    message(1, 'INBOX', []),
    message(2, 'Work/Plans 1.2', ['summer', '$Forwarded']),
    message(3, '../../etc', []),
    message(
      4,
      'Entwürfe',
      Array.from({ length: 40 }, (_, at) => `word${at}`),
    ),
  ]);
  const paths = files.map(({ path }) => path);
  for (const path of paths) assert.doesNotMatch(path, /(^|\/)\.\.?(\/|$)/, path);
  assert.ok(paths.includes('Maildir/cur/1000000000.M1.tamsel,S=1:2,FS'));
  assert.ok(paths.includes('Maildir/.Work.Plans 1_2/cur/1000000000.M2.tamsel,S=1:2,FPSab'));
  assert.ok(paths.includes('Maildir/.Entw&APw-rfe/dovecot-keywords'));
  assert.ok(
    paths.some((path) => path.endsWith(':2,FSabcdefghijklmnopqrstuvwxyz')),
    'there are no more letters',
  );
});
