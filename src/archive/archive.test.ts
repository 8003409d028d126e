import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { createReadStream, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { after, test } from 'node:test';
import { Bag, type BaggedFile } from './bag';
import { hashOf, SMALL } from './digest';
import { Scratch } from './scratch';
import { between, sizeOfZip, zipped } from './zip';

const folder = mkdtempSync(join(tmpdir(), 'tamsel-archive-'));
after(() => rmSync(folder, { recursive: true, force: true }));

/** Octets in pieces, perhaps broken off. */
async function* inPieces(octets: Buffer, breaksAt = Number.POSITIVE_INFINITY): AsyncGenerator<Buffer> {
  for (let at = 0; at < octets.length; at += 700_000) {
    if (at >= breaksAt) throw new Error('broken off');
    yield octets.subarray(at, at + 700_000);
  }
}

/** Small, at the edge, and one that is not held in memory. */
const LENGTHS = [0, 1, 700_001, SMALL - 1, SMALL, SMALL + 1, 2 * SMALL + 77];
const sha256 = (octets: Buffer) => createHash('sha256').update(octets).digest('hex');

test('octets are hashed alike, whether they are held or come by', async () => {
  for (const length of LENGTHS) {
    const octets = randomBytes(length);
    assert.equal(await hashOf(inPieces(octets)), sha256(octets), `${length}`);
  }
});

test('what is worked on is read back from anywhere, and leaves no name on the disk', async () => {
  const place = join(folder, 'scratch');
  for (const length of LENGTHS) {
    const octets = randomBytes(length);
    const scratch = new Scratch(place);
    await scratch.write(inPieces(octets));
    for (const [from, to] of [
      [0, length],
      [length >> 1, length],
      [length >> 2, length >> 1],
    ] as const) {
      const read: Uint8Array[] = [];
      for await (const piece of scratch.read(from, to)) read.push(piece);
      assert.ok(Buffer.concat(read).equals(octets.subarray(from, to)), `${length}: ${from} to ${to}`);
    }
    await assert.rejects(async () => {
      for await (const _ of scratch.read(0, length + 1));
    });
    await scratch.close();
  }
  assert.deepEqual(readdirSync(place), []);
});

test('files of a bag are written whole or not at all, and nothing that arrives stays beside them', async () => {
  const bag = new Bag(join(folder, 'bag'));
  const files: BaggedFile[] = [];
  for (const length of LENGTHS) {
    const octets = randomBytes(length);
    const written = await bag.write(`in/file-${length}`, inPieces(octets));
    assert.deepEqual(written, { path: `in/file-${length}`, size: length, sha256: sha256(octets) });
    files.push(written);
    await assert.rejects(
      bag.write(`in/broken-${length}`, inPieces(randomBytes(length + 800_000), 700_000)),
      /broken off/,
    );
    // One that comes again, as after a kill, takes the place of the first whole.
    const kept = await bag.write(`in/file-${length}`, inPieces(octets));
    assert.deepEqual(kept, written);
  }
  async function* listed() {
    yield* files;
  }
  await bag.seal(listed(), {});
  assert.deepEqual(readdirSync(bag.path).sort(), [
    'bag-info.txt',
    'bagit.txt',
    'data',
    'manifest-sha256.txt',
    'tagmanifest-sha256.txt',
  ]);
  assert.deepEqual(readdirSync(join(bag.path, 'data/in')).sort(), LENGTHS.map((length) => `file-${length}`).sort());
  for (const { path, sha256: sum } of files) {
    assert.equal((await bag.read(path))?.sha256, sum);
    assert.equal(sha256(readFileSync(join(bag.path, 'data', path))), sum);
  }
  assert.equal(await bag.read('in/none'), undefined);
});

test('a ZIP archive has as many octets as it says, whatever the size of its directory, and opens elsewhere', async () => {
  // 46 octets and its path an entry: the directory of 700 has less than 64 KiB, that of 800 more, by names alone.
  for (const count of [0, 1, 700, 800, 1_100, 66_000]) {
    const paths = Array.from(
      { length: count },
      (_, at) => `bag/data/2023/2023-08-06 Odile/${`${at}`.padStart(9, '0')}.txt`,
    );
    const files = paths.map((path) => ({ path, size: 5, read: () => Readable.from([Buffer.from('seeds')]) }));
    const size = sizeOfZip(files);
    const pieces: Uint8Array[] = [];
    for await (const piece of between(zipped(files), 0, size - 1)) pieces.push(piece);
    const whole = Buffer.concat(pieces);
    assert.equal(whole.length, size, `${count} files`);
    const archive = join(folder, `${count}.zip`);
    writeFileSync(archive, whole);
    // Python's zipfile, which reads the directory and what a thousand files hold, against their CRCs.
    const read = `import sys, zipfile; z = zipfile.ZipFile(sys.argv[1]); names = z.namelist()
for name in names[::len(names) // 1000 + 1]: assert z.read(name) == b'seeds', name
print(len(names))`;
    assert.equal(execFileSync('python3', ['-c', read, archive], { encoding: 'utf8' }), `${count}\n`);
  }
});

test('a file that changed its size since breaks the archive off', async () => {
  const from = join(folder, 'grown.txt');
  writeFileSync(from, 'seeds and bulbs');
  await assert.rejects(async () => {
    for await (const piece of zipped([{ path: 'a.txt', size: 5, read: () => createReadStream(from) }]))
      assert.ok(piece);
  }, /has 15 octets, and had 5/);
});

test('an archive that ends early is an error, and no download that nobody ends', async () => {
  const octets = inPieces(Buffer.alloc(10));
  await assert.rejects(async () => {
    for await (const piece of between(octets, 0, 10)) assert.ok(piece);
  }, /ended before/);
});
