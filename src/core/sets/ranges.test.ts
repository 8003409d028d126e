import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import {
  chunksOf,
  countOf,
  covering,
  difference,
  intersection,
  numbersOf,
  parseMultirange,
  parseSequenceSet,
  printMultirange,
  printSequenceSet,
  rangesOf,
} from './ranges';

const numbers = fc.array(fc.integer({ min: 1, max: 300 }), { maxLength: 200 });
const sorted = (all: Iterable<number>) => [...new Set(all)].sort((a, b) => a - b);

test('a set is the same as a list of its numbers, in every form', () => {
  fc.assert(
    fc.property(numbers, numbers, fc.integer({ min: 1, max: 50 }), (some, others, size) => {
      const ranges = rangesOf(some);
      assert.deepEqual([...numbersOf(ranges)], sorted(some));
      assert.equal(countOf(ranges), new Set(some).size);
      if (some.length > 0) assert.deepEqual(parseSequenceSet(printSequenceSet(ranges)), ranges);
      assert.deepEqual(parseMultirange(printMultirange(ranges)), ranges);
      const kept = (which: boolean) => rangesOf(some.filter((number) => others.includes(number) === which));
      assert.deepEqual(difference(ranges, rangesOf(others)), kept(false));
      assert.deepEqual(intersection(ranges, rangesOf(others)), kept(true));
      const chunks = [...chunksOf(ranges, size)];
      assert.deepEqual(
        chunks.flatMap((chunk) => [...numbersOf(chunk)]),
        sorted(some),
      );
      assert.ok(
        chunks.every((chunk, index) => (index < chunks.length - 1 ? countOf(chunk) === size : countOf(chunk) <= size)),
      );
    }),
  );
});

test('sequence sets as RFC 9051 §9 has them: 2,4:7,9,12:* with 15 messages, ends in either order', () => {
  assert.deepEqual([...numbersOf(parseSequenceSet('2,4:7,9,12:*', 15) ?? [])], [2, 4, 5, 6, 7, 9, 12, 13, 14, 15]);
  assert.deepEqual([...numbersOf(parseSequenceSet('*:4,5:7', 10) ?? [])], [4, 5, 6, 7, 8, 9, 10]);
  assert.equal(parseSequenceSet('1,,2'), undefined);
});

test('few ranges cover the members and nothing else that exists', () => {
  fc.assert(
    fc.property(numbers, numbers, (some, others) => {
      const members = rangesOf(some);
      const existing = rangesOf([...some, ...others]);
      const covered = covering(members, existing);
      assert.deepEqual(intersection(covered, existing), members.length > 0 ? intersection(existing, members) : []);
      // Between two of them something else lies, or they would be one.
      for (let index = 1; index < covered.length; index++) {
        const gap = [[(covered[index - 1]?.[1] ?? 0) + 1, (covered[index]?.[0] ?? 0) - 1] as const];
        assert.ok(countOf(intersection(difference(existing, members), gap)) > 0);
      }
    }),
  );
});
