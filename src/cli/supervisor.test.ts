import assert from 'node:assert/strict';
import { test } from 'node:test';
import { restartWait } from './supervisor';

test('each wait before a restart is twice the one before, up to a minute', () => {
  assert.deepEqual([1, 2, 3, 6, 7, 100].map(restartWait), [1_000, 2_000, 4_000, 32_000, 60_000, 60_000]);
});
