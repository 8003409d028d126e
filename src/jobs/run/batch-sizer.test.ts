import assert from 'node:assert/strict';
import { test } from 'node:test';
import { BatchSizer } from './batch-sizer';

test('batches grow while they are quick, and shrink when they are slow or refused', () => {
  const sizer = new BatchSizer();
  const first = sizer.size;
  sizer.answered(first, 10);
  assert.equal(sizer.size, first * 2);
  sizer.answered(first - 1, 10);
  assert.equal(sizer.size, first * 2, 'a small one says nothing');
  sizer.answered(first * 2, 60_000);
  assert.equal(sizer.size, first);
  sizer.complained(8);
  assert.equal(sizer.size, 4);
  for (let times = 0; times < 20; times++) sizer.complained();
  assert.equal(sizer.size, 1);
  sizer.recovered();
  for (let times = 0; times < 20; times++) sizer.answered(sizer.size, 10);
  assert.equal(sizer.size, 25_000);
  sizer.atMost(20);
  assert.equal(sizer.size, 20);
});

/** Messages a second, and the longest batch, over a run of 200,000 on a server where a command costs so much, and each message. */
function carried(fixed: number, each: number, noise: () => number): { rate: number; longest: number } {
  const sizer = new BatchSizer();
  let [took, longest, left] = [0, 0, 200_000];
  while (left > 0) {
    const messages = Math.min(left, sizer.size);
    const ms = (fixed + each * messages) * noise();
    sizer.answered(messages, ms);
    longest = Math.max(longest, ms);
    took += ms;
    left -= messages;
  }
  return { rate: 200_000 / (took / 1000), longest };
}

test('whatever a command and a message cost, a run comes to its end in a few times what one command for all would take', () => {
  let turn = 0;
  const noises = [() => 1, () => [0.7, 1.2, 1, 1.4, 0.8][turn++ % 5] as number];
  for (const noise of noises)
    for (const fixed of [0, 50, 2_500, 7_000, 12_000, 20_000])
      for (const each of [0.01, 0.4, 2, 20]) {
        const { rate, longest } = carried(fixed, each, noise);
        const best = 1000 / (each + fixed / 25_000);
        const unit = `${fixed} ms a command, ${each} ms a message`;
        assert.ok(rate > best / 5, `${unit}: ${Math.round(rate)} of at best ${Math.round(best)} a second`);
        assert.ok(longest < 90_000, `${unit}: a batch of ${Math.round(longest)} ms`);
      }
});
