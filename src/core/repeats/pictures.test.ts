import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { bitsApart, HASHED_SIDE, NEARLY_ALIKE, pictureHash, sharpnessOf } from './picture-hash';
import {
  isNearlyAlike,
  type LookRows,
  neighboursOf,
  OCCASION_SECONDS,
  occasionsOf,
  pictureSeries,
} from './picture-series';

/** The two-dimensional DCT-II by its definition, a frequency at a time. */
function frequency(grey: Uint8Array, u: number, v: number): number {
  let sum = 0;
  for (let y = 0; y < HASHED_SIDE; y++)
    for (let x = 0; x < HASHED_SIDE; x++)
      sum +=
        (grey[y * HASHED_SIDE + x] as number) *
        Math.cos(((2 * x + 1) * u * Math.PI) / (2 * HASHED_SIDE)) *
        Math.cos(((2 * y + 1) * v * Math.PI) / (2 * HASHED_SIDE));
  return sum;
}

test('the hash is that of the transform by its definition', () => {
  fc.assert(
    fc.property(fc.uint8Array({ minLength: HASHED_SIDE ** 2, maxLength: HASHED_SIDE ** 2 }), (grey) => {
      const features = [];
      for (let v = 1; v <= 8; v++) for (let u = 1; u <= 8; u++) features.push(frequency(grey, u, v));
      const sorted = [...features].sort((a, b) => a - b);
      const median = ((sorted[31] as number) + (sorted[32] as number)) / 2;
      // Where two are as good as equal their order is a matter of rounding.
      fc.pre(Math.min(...features.map((one) => Math.abs(one - median))) > 1e-6);
      const expected = BigInt(`0b${features.map((one) => (one > median ? 1 : 0)).join('')}`);
      const hash = pictureHash(grey);
      if (hash !== undefined) assert.equal(BigInt.asUintN(64, hash), expected);
    }),
    { numRuns: 30 },
  );
});

test('a bare sheet has no hash, so it is like nothing', () => {
  assert.equal(pictureHash(new Uint8Array(HASHED_SIDE ** 2).fill(255)), undefined);
  assert.equal(pictureHash(Uint8Array.from({ length: HASHED_SIDE ** 2 }, (_, at) => 128 + (at % 2))), undefined);
});

test('bits are counted as one by one', () => {
  fc.assert(
    fc.property(
      fc.bigInt({ min: 0n, max: 2n ** 64n - 1n }),
      fc.bigInt({ min: 0n, max: 2n ** 64n - 1n }),
      (one, other) => {
        const half = (hash: bigint, at: bigint) => Number(BigInt.asIntN(32, hash >> at));
        const bits = (one ^ other).toString(2).replaceAll('0', '').length;
        assert.equal(bitsApart(half(one, 32n), half(one, 0n), half(other, 32n), half(other, 0n)), bits);
      },
    ),
  );
});

test('what is drawn with softer edges is less sharp', () => {
  const [width, height] = [64, 48];
  const edge = (steps: number) =>
    Uint8Array.from({ length: width * height }, (_, at) =>
      Math.max(0, Math.min(255, 128 + ((at % width) - 32) * (255 / steps))),
    );
  const [hard, soft] = [sharpnessOf(edge(1), width, height), sharpnessOf(edge(12), width, height)];
  assert.ok(hard > 2 * soft);
  assert.equal(sharpnessOf(new Uint8Array(width * height).fill(9), width, height), 0);
  assert.equal(sharpnessOf(new Uint8Array(4), 2, 2), 0);
});

const picture = fc.record({
  author: fc.nat(1),
  taken: fc.nat(8).map((hours) => hours * (OCCASION_SECONDS / 3)),
  /** Bits from the left: those with counts near each other are nearly alike. */
  bits: fc.constantFrom(0, 4, 10, 16, 22),
  sharpness: fc.integer({ min: 1, max: 50 }),
  isLeft: fc.boolean(),
});

test('each picture of a series is nearly alike to the best of it, which is the sharpest; none is in two; nothing alike is missed', () => {
  fc.assert(
    fc.property(fc.array(picture, { maxLength: 20 }), (all) => {
      const pictures = [...all].sort((a, b) => a.author - b.author || a.taken - b.taken);
      const floats = (value: (one: (typeof pictures)[number], row: number) => number) =>
        Float64Array.from(pictures, value);
      const rows: LookRows = {
        file: floats((_, row) => row),
        author: Int32Array.from(pictures, ({ author }) => author),
        taken: floats(({ taken }) => taken),
        high: Int32Array.from(pictures, ({ bits }) => 2 ** bits - 1),
        low: new Int32Array(pictures.length),
        sharpness: floats(({ sharpness }) => sharpness),
        points: floats(() => 100),
        size: floats(() => 1),
      };
      const alike = (a: number, b: number) => {
        const [one, other] = [pictures[a], pictures[b]] as [(typeof pictures)[number], (typeof pictures)[number]];
        return (
          one.author === other.author &&
          Math.abs(one.taken - other.taken) <= OCCASION_SECONDS &&
          Math.abs(one.bits - other.bits) <= NEARLY_ALIKE
        );
      };
      const isLeft = (row: number) => pictures[row]?.isLeft === true;
      const series = pictureSeries(rows, isLeft);
      const members = series.flatMap((one) => one.rows);
      assert.equal(new Set(members).size, members.length);
      for (const { best, rows: mine } of series) {
        assert.ok(mine.includes(best) && mine.length > 1 && mine.every((row) => !isLeft(row)));
        for (const row of mine) {
          assert.ok(row === best || (alike(best, row) && isNearlyAlike(rows, best, row)));
          assert.ok((pictures[row]?.sharpness as number) <= (pictures[best]?.sharpness as number));
        }
      }
      const inSeries = new Set(members);
      for (let a = 0; a < pictures.length; a++) {
        const near = [...neighboursOf(rows, a)].filter((b) => alike(a, b)).sort((x, y) => x - y);
        const naive = pictures.flatMap((_, b) => (b !== a && alike(a, b) ? [b] : []));
        assert.deepEqual(near, naive);
        for (const b of naive)
          assert.ok(
            isLeft(a) || isLeft(b) || inSeries.has(a) || inSeries.has(b),
            'one of two that are alike is in a series',
          );
      }
      const { rows: company, starts } = occasionsOf(rows);
      assert.ok(
        members.every((row) => company.includes(row)),
        'what is in a series was worth looking at',
      );
      assert.equal(starts.at(-1), company.length);
    }),
  );
});
