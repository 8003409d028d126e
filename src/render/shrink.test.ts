import assert from 'node:assert/strict';
import { test } from 'node:test';
import exif from 'exif-reader';
import sharp from 'sharp';
import { photograph } from '../../stand-in/files/photograph';
import { picture } from './picture';
import { shrunk } from './shrink';

const KEEP = true;

async function madeOf(octets: Uint8Array, longest = 1600, keeps = KEEP, most = 0.7) {
  const made = await shrunk(octets, longest, keeps, most);
  assert.ok(made.kind === 'picture', JSON.stringify(made));
  return made;
}

test('a photograph keeps its format, its shape, how it was held, and what it says', async () => {
  for (const seed of [3, 4, 5, 8]) {
    const file = photograph(seed, 1_500_000);
    const before = await sharp(file).metadata();
    for (const longest of [1600, 2560]) {
      const made = await madeOf(file, longest);
      const after = await sharp(made.octets).metadata();
      assert.deepEqual([after.format, after.orientation], ['jpeg', before.orientation]);
      assert.equal(Math.max(after.width, after.height), Math.min(longest, Math.max(before.width, before.height)));
      assert.ok(Math.abs(after.width / after.height - before.width / before.height) < 0.01);
      assert.ok(exif(after.exif as Buffer).GPSInfo, 'the place stays');
      assert.ok(made.octets.length <= file.length * 0.7);
    }
    // To the eye it is the same, the right way up.
    const [one, two] = await Promise.all([picture(file), picture((await madeOf(file)).octets)]);
    assert.ok(one.kind === 'picture' && two.kind === 'picture');
    assert.deepEqual([one.width > one.height], [two.width > two.height]);
  }
});

test('without the place only the time stays, and it is seen as it was', async () => {
  const taken = '2023:08:06 10:15:00';
  const file = await sharp(photograph(3, 600_000))
    .withMetadata({ orientation: 6 })
    .withExifMerge({ IFD0: { Artist: 'Odile' }, IFD2: { DateTimeOriginal: taken } })
    .jpeg({ quality: 95 })
    .toBuffer();
  const before = await sharp(file).metadata();
  assert.deepEqual([before.orientation, before.width > before.height], [6, true]);
  assert.ok(exif(before.exif as Buffer).GPSInfo);
  const after = await sharp((await madeOf(file, 1600, false)).octets).metadata();
  assert.deepEqual([after.orientation ?? 1, after.width > after.height], [1, false]);
  const said = exif(after.exif as Buffer);
  assert.equal(said.Photo?.DateTimeOriginal?.toISOString(), '2023-08-06T10:15:00.000Z');
  assert.deepEqual(
    [said.GPSInfo, said.Image?.Artist, said.Thumbnail, after.xmp, after.iptc],
    new Array(5).fill(undefined),
  );
});

test('PNG and WebP keep their formats', async () => {
  const grain = {
    create: {
      width: 3000,
      height: 2000,
      channels: 3,
      background: '#777',
      noise: { type: 'gaussian', mean: 128, sigma: 20 },
    },
  } as const;
  for (const format of ['png', 'webp'] as const) {
    const made = await madeOf(await sharp(grain).toFormat(format).toBuffer());
    assert.equal((await sharp(made.octets).metadata()).format, format);
  }
});

test('what does not get much smaller, moves, is damaged or is no picture is left, each with its reason', async () => {
  const reason = async (octets: Uint8Array, most = 0.7) => {
    const made = await shrunk(octets, 1600, KEEP, most);
    return made.kind === 'refused' ? made.reason : made.kind;
  };
  const file = photograph(3, 900_000);
  assert.equal(await reason(file, 0.01), 'not-smaller');
  assert.equal(await reason((await madeOf(file)).octets), 'not-smaller');
  assert.equal(await reason(file.subarray(0, 500_000)), 'damaged');
  const frames = Buffer.alloc(4 * 4 * 3 * 2, 90);
  const moving = await sharp(frames, { raw: { width: 4, height: 8, channels: 3, pageHeight: 4 } })
    .gif()
    .toBuffer();
  assert.equal(await reason(moving), 'unknown-format');
  assert.equal(await reason(Buffer.from('GIF89a no picture')), 'unknown-format');
});
