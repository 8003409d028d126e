import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { type EvidenceFacts, evidenceOf, evidenceShare, messageEvidence } from './evidence';

const share = fc.double({ min: 0, max: 1, noNaN: true });
const facts: fc.Arbitrary<EvidenceFacts> = fc.record({
  messages: fc.integer({ min: 1, max: 30_000 }),
  written: fc.nat(500),
  replied: fc.nat(500),
  flagged: fc.nat(500),
  answered: fc.nat(500),
  documents: fc.nat(50),
  letters: share,
  records: share,
  seen: share,
  days: fc.nat(5_000),
});

test('evidence is from 0 to 100 and falls with no reason that grows', () => {
  const grown = fc.constantFrom(
    'written',
    'replied',
    'flagged',
    'answered',
    'documents',
    'letters',
    'records',
    'seen',
    'days',
  );
  fc.assert(
    fc.property(facts, grown, fc.nat(100), (before, name, by) => {
      const after = { ...before };
      if (name === 'days') after.days = Math.max(0, before.days - by);
      else if (name === 'letters' || name === 'records' || name === 'seen')
        after[name] = Math.min(1, before[name] + by / 100);
      else after[name] += by;
      assert.ok(evidenceShare(after) >= evidenceShare(before));
      const { figure, reasons } = evidenceOf(after);
      assert.ok(figure >= 0 && figure <= 100 && Number.isInteger(figure));
      assert.ok(reasons.every(({ reason, number }) => number === (reason === 'recent' ? after.days : after[reason])));
    }),
  );
});

test('a mailing that nobody read has almost none; a friend has almost all; what a message shows adds to its sender', () => {
  const none = { written: 0, replied: 0, flagged: 0, answered: 0, documents: 0, letters: 0, records: 0, seen: 0 };
  assert.equal(evidenceOf({ ...none, messages: 7_112, seen: 0.07, days: 3 }).figure, 9);
  const friend = { ...none, messages: 412, written: 61, answered: 60, letters: 1, seen: 0.97, days: 2 };
  assert.ok(evidenceOf(friend).figure >= 85);
  assert.equal(evidenceOf(friend).reasons[0]?.reason, 'written');
  const flags = { flagged: false, answered: false, soleDocument: false };
  assert.equal(messageEvidence(0.2, flags), 1 - (1 - 0.2));
  for (const mark of ['flagged', 'answered', 'soleDocument'] as const)
    assert.ok(messageEvidence(0.2, { ...flags, [mark]: true }) > 0.5);
});
