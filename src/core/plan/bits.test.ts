import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { rangesOf } from '../sets/ranges';
import { bitsOfRanges, eachBit, emptyBits, hasBit, setBit } from './bits';
import { greedyCover } from './coverage';

const ids = fc
  .uniqueArray(fc.integer({ min: 1, max: 400 }), { maxLength: 200 })
  .map((list) => list.sort((a, b) => a - b));

test('a set of ids is the rows that bear them, whatever its spans', () => {
  fc.assert(
    fc.property(ids, ids, (rows, wanted) => {
      const bits = bitsOfRanges(rangesOf(wanted), rows);
      const set = new Set(wanted);
      const expected = rows.flatMap((id, row) => (set.has(id) ? [row] : []));
      const visited: number[] = [];
      eachBit(bits, (row) => visited.push(row));
      assert.deepEqual(visited, expected);
      assert.deepEqual(
        rows.map((_, row) => hasBit(bits, row)),
        rows.map((id) => set.has(id)),
      );
    }),
  );
});

test('spans that begin and end at, before and behind a word of 32 rows take these rows and no other', () => {
  const rows = Array.from({ length: 100 }, (_, index) => index + 1);
  for (const from of [0, 1, 31, 32, 33, 63, 64])
    for (const length of [1, 30, 31, 32, 33, 36]) {
      const visited: number[] = [];
      eachBit(bitsOfRanges([[from + 1, from + length]], rows), (row) => visited.push(row));
      assert.deepEqual(
        visited,
        Array.from({ length: Math.min(length, 100 - from) }, (_, index) => from + index),
      );
    }
});

test('the greedy cover takes, each time, the set that adds most, as a plain search does', () => {
  const sets = fc.array(fc.uniqueArray(fc.nat(30), { maxLength: 12 }), { maxLength: 12 });
  fc.assert(
    fc.property(
      sets,
      fc.array(fc.nat(9), { minLength: 31, maxLength: 31 }),
      fc.uniqueArray(fc.nat(30)),
      (all, weights, out) => {
        const covered = emptyBits(31);
        for (const row of out) setBit(covered, row);
        const got = [
          ...greedyCover(
            all.map((rows) => Uint32Array.from(rows)),
            Float64Array.from(weights),
            covered,
          ),
        ];
        const seen = new Set(out);
        const gainOf = (rows: number[]) =>
          rows.reduce((sum, row) => sum + (seen.has(row) ? 0 : (weights[row] as number)), 0);
        const expected: { set: number; gain: number }[] = [];
        for (;;) {
          const gains = all.map(gainOf);
          const gain = Math.max(0, ...gains);
          if (gain === 0) break;
          const set = gains.indexOf(gain);
          for (const row of all[set] as number[]) seen.add(row);
          expected.push({ set, gain });
        }
        assert.deepEqual(got, expected);
      },
    ),
  );
});
