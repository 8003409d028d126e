import assert from 'node:assert/strict';
import { test } from 'node:test';
import { FLAG_BITS, flagChanges } from './flags';

const { seen, flagged, deleted } = FLAG_BITS;

test('flag changes are what was added and removed; \\Deleted does not count, and keywords are the same in any letter case', () => {
  const before = { flags: seen | deleted, keywords: ['Summer', 'later'] };
  assert.deepEqual(flagChanges(before, { flags: flagged, keywords: ['summer', 'kept'] }), {
    added: { flags: flagged, keywords: ['kept'] },
    removed: { flags: seen, keywords: ['later'] },
  });
  assert.equal(flagChanges(before, { flags: seen, keywords: ['later', 'SUMMER'] }), null);
  assert.deepEqual(flagChanges(undefined, { flags: seen, keywords: [] })?.added, { flags: seen, keywords: [] });
});
