import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { nextStep } from './next-step';

const GIB = 2 ** 30;

test('the next step is what reaches the target soonest', () => {
  const at = { used: 9.6 * GIB, limit: 10 * GIB, target: 8 * GIB, purgeable: 0, reading: null };
  assert.deepEqual(nextStep({ ...at, reading: 'outline' }), { kind: 'wait' });
  assert.deepEqual(nextStep({ ...at, used: 9 * GIB, purgeable: GIB, reading: 'details' }), { kind: 'look', rest: GIB });
  assert.deepEqual(nextStep({ ...at, target: null, limit: null }), { kind: 'set-target' });
  assert.deepEqual(nextStep({ ...at, used: 7.4 * GIB }), { kind: 'nothing', share: 0.74, target: 0.8 });
  assert.deepEqual(nextStep({ ...at, used: 8 * GIB }), { kind: 'nothing', share: 0.8, target: 0.8 });
  assert.deepEqual(nextStep({ ...at, used: 9 * GIB, purgeable: GIB }), { kind: 'purge', free: GIB });
  assert.deepEqual(nextStep({ ...at, used: 9 * GIB, purgeable: GIB - 1 }), {
    kind: 'purge-first',
    free: GIB - 1,
    rest: 1,
  });
  assert.deepEqual(nextStep({ ...at, used: 9 * GIB }), { kind: 'choose', rest: GIB });
});

test('what it says adds up, whatever the figures are', () => {
  const octets = fc.integer({ min: 0, max: 2 ** 40 });
  fc.assert(
    fc.property(octets, octets, octets, octets, (used, limit, target, trash) => {
      const purgeable = Math.min(trash, used);
      const step = nextStep({ used, limit: Math.max(1, limit), target, purgeable, reading: null });
      if (step.kind === 'nothing') assert.ok(used <= target);
      else if (step.kind === 'purge') assert.ok(used > target && used - step.free <= target);
      else if (step.kind === 'purge-first') assert.equal(used - step.free - step.rest, target);
      else if (step.kind === 'choose') assert.equal(used - step.rest, target);
      else assert.fail(step.kind);
    }),
  );
});
