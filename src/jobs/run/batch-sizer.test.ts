import assert from 'node:assert/strict';
import { test } from 'node:test';
import { BatchSizer } from './batch-sizer';

test('batches grow while the server is quick, and shrink when it is slow or complains, down to one message', () => {
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
