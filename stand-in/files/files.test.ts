import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import sharp from 'sharp';
import { pdf } from './document';
import { photograph } from './photograph';

test('photographs are as large as they say, the same every time, and a library reads them without a complaint', async () => {
  await fc.assert(
    fc.asyncProperty(fc.nat(), fc.integer({ min: 12_000, max: 900_000 }), async (seed, octets) => {
      const picture = photograph(seed, octets);
      assert.equal(picture.length, octets);
      assert.ok(picture.equals(photograph(seed, octets)));
      const { width, height, format, exif } = await sharp(picture).metadata();
      assert.equal(format, 'jpeg');
      assert.ok(width >= 32 && height >= 24 && exif);
      const start = Math.floor(octets / 3);
      assert.ok(photograph(seed, octets, { most: start }).subarray(0, start).equals(picture.subarray(0, start)));
      await sharp(picture, { failOn: 'warning' }).raw().toBuffer();
    }),
    { numRuns: 12 },
  );
});

test('documents are as large as they say', () => {
  fc.assert(
    fc.property(fc.nat(), fc.integer({ min: 8_000, max: 100_000 }), (seed, octets) => {
      const file = pdf(seed, ['one', 'two (2)'], octets);
      assert.equal(file.length, octets);
      assert.equal(file.indexOf('xref'), Number(/startxref\n(\d+)/.exec(file.toString('latin1'))?.[1]));
    }),
  );
});
