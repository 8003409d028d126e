import assert from 'node:assert/strict';
import { test } from 'node:test';
import { pairByIdentity } from './pair-by-identity';

const received = new Date('2023-08-06T10:00:00Z');
const lost = (id: number, messageId: string, size = 100, emailId: string | null = null) => ({
  ...{ id, messageId, size, emailId },
  received,
});
const found = (uid: number, messageId: string, size = 100, emailId: string | null = null) => ({
  ...{ uid, messageId, size, emailId },
  received,
});

test('messages are recognised by EMAILID, else by Message-ID, size and date together', () => {
  assert.deepEqual(pairByIdentity([lost(1, 'a', 100, 'M1')], [found(7, 'b', 200, 'M1')]), [{ id: 1, uid: 7 }]);
  assert.deepEqual(pairByIdentity([lost(1, 'a'), lost(2, 'b')], [found(7, 'b'), found(8, 'a')]), [
    { id: 2, uid: 7 },
    { id: 1, uid: 8 },
  ]);
  assert.deepEqual(pairByIdentity([lost(1, 'a')], [found(7, 'a', 101), found(8, 'b')]), []);
});

test('messages that are alike pair in their order, each once', () => {
  const pairs = pairByIdentity([lost(1, 'a'), lost(2, 'a')], [found(7, 'a'), found(8, 'a'), found(9, 'a')]);
  assert.deepEqual(pairs, [
    { id: 1, uid: 7 },
    { id: 2, uid: 8 },
  ]);
});

test('one that could not be read is told by size and date; one that could be, and is another, never is', () => {
  assert.deepEqual(pairByIdentity([lost(1, 'a'), lost(2, 'b')], [found(7, ''), found(8, 'a')]), [
    { id: 1, uid: 8 },
    { id: 2, uid: 7 },
  ]);
  assert.deepEqual(pairByIdentity([lost(1, 'a')], [found(7, '', 101)]), []);
  // A message without a Message-ID is not what somebody else brought meanwhile.
  assert.deepEqual(pairByIdentity([lost(1, '')], [found(7, 'other')]), []);
});
