import assert from 'node:assert/strict';
import { test } from 'node:test';
import sharp from 'sharp';
import { photograph } from '../../stand-in/files/photograph';
import { bitsApart, NEARLY_ALIKE } from '../core/repeats/picture-hash';
import { look } from './look';

const VIEWS = 12;

async function hashOf(octets: Buffer): Promise<bigint> {
  const made = await look(octets);
  assert.ok(made.kind === 'look' && made.hash !== null);
  return made.hash;
}

function apart(one: bigint, other: bigint): number {
  const half = (hash: bigint, at: bigint) => Number(BigInt.asIntN(32, hash >> at));
  return bitsApart(half(one, 32n), half(one, 0n), half(other, 32n), half(other, 0n));
}

/** A picture as others pass it on: encoded anew, smaller, cut by 3 % of its width. */
const CHANGES: Record<string, (octets: Buffer) => Promise<Buffer>> = {
  'encoded anew': (octets) => sharp(octets).keepMetadata().jpeg({ quality: 40 }).toBuffer(),
  'as WebP': (octets) => sharp(octets).keepMetadata().webp({ quality: 60 }).toBuffer(),
  smaller: async (octets) => {
    const { width } = await sharp(octets).metadata();
    return sharp(octets)
      .keepMetadata()
      .resize(Math.round(width / 2))
      .jpeg({ quality: 80 })
      .toBuffer();
  },
  cut: async (octets) => {
    const { width, height } = await sharp(octets).metadata();
    const off = Math.round(width * 0.03);
    return sharp(octets)
      .keepMetadata()
      .extract({ left: off, top: 0, width: width - off, height })
      .jpeg()
      .toBuffer();
  },
};

test('pictures that were encoded anew, made smaller or cut by 3 % are nearly alike, and those of other landscapes are not', async () => {
  const views = Array.from({ length: VIEWS }, (_, view) => photograph(view, 90_000, { view }));
  const hashes = await Promise.all(views.map(hashOf));
  const found: Record<string, number> = {};
  for (const [how, change] of Object.entries(CHANGES)) {
    found[how] = 0;
    for (const [view, octets] of views.entries())
      if (apart(hashes[view] as bigint, await hashOf(await change(octets))) <= NEARLY_ALIKE) found[how]++;
  }
  assert.deepEqual(
    { ...found, cut: undefined },
    { 'encoded anew': VIEWS, 'as WebP': VIEWS, smaller: VIEWS, cut: undefined },
  );
  assert.ok((found.cut as number) >= VIEWS - 2, `${found.cut} of ${VIEWS} that were cut`);
  for (const [a, one] of hashes.entries())
    for (const other of hashes.slice(a + 1)) assert.ok(apart(one, other) > NEARLY_ALIKE, 'no two landscapes are alike');
});

test('a blurred picture is less sharp; what is no picture, or claims too many points, is refused', async () => {
  const octets = photograph(3, 150_000, { view: 1 });
  const blurred = await sharp(octets).blur(4).jpeg().toBuffer();
  const [clear, soft] = [await look(octets), await look(blurred)];
  assert.ok(clear.kind === 'look' && soft.kind === 'look' && clear.sharpness > 1.5 * soft.sharpness);
  assert.equal((await look(Buffer.from('not a picture'))).kind, 'refused');
  const bomb = await sharp({ create: { width: 16_000, height: 16_000, channels: 3, background: 'red' } })
    .png()
    .toBuffer();
  assert.deepEqual(await look(bomb), { kind: 'refused', reason: 'too-many-points' });
  const bare = await sharp({ create: { width: 300, height: 300, channels: 3, background: 'white' } })
    .png()
    .toBuffer();
  const seen = await look(bare);
  assert.ok(seen.kind === 'look' && seen.hash === null, 'a bare sheet is like nothing');
});
