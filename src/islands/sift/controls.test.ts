import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { parseCriteria } from '../../core/criteria/parse';
import { type Controls, controlsOf, criteriaOf } from './controls';

const read = (where: string) => {
  const parsed = parseCriteria(where);
  assert.ok(parsed.ok, where);
  return controlsOf(parsed.criteria);
};

test('the text follows the controls, and the controls follow the text', () => {
  const controls: fc.Arbitrary<Controls> = fc.record({
    leastSize: fc.constantFrom('', '5 MiB', '100 kB'),
    leastAge: fc.constantFrom('', '1y', '6mo'),
    folder: fc.constantFrom('', 'INBOX', 'Märkte & Feste', 'and'),
    word: fc.oneof(fc.constant(''), fc.string({ minLength: 1, maxLength: 5 })),
    unflagged: fc.boolean(),
    unseen: fc.boolean(),
  });
  fc.assert(fc.property(controls, (set) => assert.deepEqual(read(criteriaOf(set)), { ...set })));
});

test('criteria that say more than the controls can are not shown by them', () => {
  assert.equal(read('size > 5 MiB or unseen'), undefined);
  assert.equal(read('size >= 5 MiB and size >= 6 MiB'), undefined);
  assert.equal(read('from ~ a or subject ~ b'), undefined);
  assert.equal(read('not flagged')?.unflagged, true);
});
