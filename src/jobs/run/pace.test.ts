import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { printSequenceSet, rangesOf } from '../../core/sets/ranges';
import { Pace } from './pace';

test('a command holds what the pace allows, and its set stays short however the UIDs are scattered', () => {
  fc.assert(
    fc.property(
      fc.uniqueArray(fc.integer({ min: 1, max: 4_294_967_295 }), { minLength: 1, maxLength: 2_000 }),
      (uids) => {
        const sorted = uids.sort((a, b) => a - b);
        const pace = new Pace();
        for (let grow = 0; grow < 4; grow++) pace.answered(10_000, 1);
        const count = pace.share(sorted);
        assert.ok(count >= 1 && count <= sorted.length);
        assert.ok(printSequenceSet(rangesOf(sorted.slice(0, count))).length <= 7_100);
      },
    ),
  );
});

test('the pace rises while the server is quick, and falls when it is slow or complains, down to one message', () => {
  const uids = Array.from({ length: 20_000 }, (_, index) => index + 1);
  const pace = new Pace();
  const first = pace.share(uids);
  pace.answered(first, 10);
  assert.equal(pace.share(uids), first * 2);
  pace.answered(first * 2, 60_000);
  assert.equal(pace.share(uids), first);
  for (let times = 0; times < 20; times++) pace.complained();
  assert.equal(pace.share(uids), 1);
  for (let times = 0; times < 20; times++) pace.answered(pace.share(uids), 10);
  assert.equal(pace.share(uids), 20_000);
});
