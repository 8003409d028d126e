import assert from 'node:assert/strict';
import { test } from 'node:test';
import sharp from 'sharp';
import { photograph } from '../../stand-in/files/photograph';
import { claimingPng } from '../../test/claiming-png';
import { picture, thumbnail } from './picture';

const LYING = { width: 160, height: 120, channels: 3, background: '#2a6f77' } as const;

/** A picture with one corner of another colour, so that it shows how it was turned. */
async function cornered(width: number, height: number): Promise<sharp.Sharp> {
  const corner = { width: width >> 2, height: height >> 2, channels: 3, background: '#b57b1e' } as const;
  const input = await sharp({ create: corner }).png().toBuffer();
  return sharp({ create: { ...LYING, width, height } }).composite([{ input, left: 0, top: 0 }]);
}

/** Whether two pictures show the same, at a glance. */
async function looksLike(a: Uint8Array, b: Uint8Array): Promise<boolean> {
  const [one, two] = await Promise.all(
    [a, b].map((octets) => sharp(octets).removeAlpha().resize(8, 8, { fit: 'fill' }).raw().toBuffer()),
  );
  return (one ?? Buffer.alloc(0)).every((value, at) => Math.abs(value - (two?.[at] ?? 0)) < 40);
}

test('a picture is shown as it was held, whatever its orientation says (compared with the library)', async () => {
  for (let orientation = 1; orientation <= 8; orientation++) {
    const file = await (await cornered(160, 120)).withMetadata({ orientation }).jpeg({ quality: 95 }).toBuffer();
    const made = await picture(file);
    assert.equal(made.kind, 'picture');
    if (made.kind !== 'picture') return;
    const wanted = await sharp(file).autoOrient().png().toBuffer({ resolveWithObject: true });
    assert.deepEqual([made.width, made.height], [wanted.info.width, wanted.info.height]);
    assert.ok(await looksLike(made.octets, wanted.data), `orientation ${orientation}`);
  }
});

test('the small picture inside a photograph is enough, and all of the file is wanted where there is none like it', async () => {
  const file = photograph(8, 400_000);
  const head = file.subarray(0, 48 * 1024);
  const small = await thumbnail(head, false);
  assert.equal(small.kind, 'picture');
  const whole = await picture(file);
  assert.ok(small.kind === 'picture' && whole.kind === 'picture');
  assert.ok(Math.max(small.width, small.height) === 160 && Math.max(whole.width, whole.height) > 1000);
  assert.ok(await looksLike(small.octets, whole.octets));
  // Cut after it was taken: the small picture is not what is seen.
  const { exif } = await sharp(file).metadata();
  const cut = await sharp(file).resize(600, 200, { fit: 'fill' }).jpeg().toBuffer();
  const block = Buffer.concat([
    Buffer.from([0xff, 0xe1, ((exif?.length ?? 0) + 2) >> 8, ((exif?.length ?? 0) + 2) & 255]),
    exif as Buffer,
  ]);
  const withOld = Buffer.concat([cut.subarray(0, 2), block, cut.subarray(2)]);
  assert.deepEqual(await thumbnail(withOld.subarray(0, 20_000), false), { kind: 'needs-all' });
  const made = await thumbnail(withOld, true);
  assert.ok(made.kind === 'picture' && made.width / made.height > 2.5);
});

test('what is made has nothing of the file: no place, no other metadata', async () => {
  const file = photograph(3, 100_000);
  assert.ok((await sharp(file).metadata()).exif);
  for (const made of [await thumbnail(file, true), await picture(file)]) {
    assert.ok(made.kind === 'picture');
    const { exif, xmp, iptc, icc, format } = await sharp(made.octets).metadata();
    assert.deepEqual(
      { exif, xmp, iptc, icc, format },
      { exif: undefined, xmp: undefined, iptc: undefined, icc: undefined, format: 'webp' },
    );
  }
});

test('hostile pictures are refused with their reason', async () => {
  const reasons = async (file: Uint8Array) => {
    const made = await picture(file);
    return made.kind === 'refused' ? made.reason : made.kind;
  };
  assert.equal(await reasons(claimingPng(60_000, 60_000)), 'too-many-points');
  assert.equal(await reasons(claimingPng(0x7fffffff, 0x7fffffff)), 'unknown-format');
  const drawing = '<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><rect width="9" height="9"/></svg>';
  assert.equal(await reasons(Buffer.from(drawing)), 'unknown-format');
  assert.equal(await reasons(Buffer.from('%PDF-1.7')), 'unknown-format');
  assert.equal(await reasons(Buffer.alloc(0)), 'unknown-format');
  assert.equal(await reasons(Buffer.alloc(5_000, 0xff)), 'unknown-format');
});

test('a picture that was cut off is shown as far as it goes, and octets that were changed end in a picture or a refusal', async () => {
  const plain = await (await cornered(900, 700)).jpeg().toBuffer();
  assert.equal((await picture(plain.subarray(0, plain.length - 900))).kind, 'picture');
  const file = photograph(5, 150_000);
  for (let at = 40; at < file.length; at += 7_919) {
    const changed = Buffer.from(file);
    changed.fill(at & 255, at, at + 40);
    assert.match((await thumbnail(changed, true)).kind, /picture|refused/);
  }
});
