import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { doubledCandidates } from './doubled';

/** Encoded octets as Buffer and lines of some length make them (RFC 2045 §6.8). */
function encodedSize(octets: number, lineLength: number, endsWithLine: boolean): number {
  const characters = Buffer.alloc(octets).toString('base64').length;
  const lines = Math.ceil(characters / lineLength);
  return characters + 2 * (endsWithLine ? lines : lines - 1);
}

test('a file is found by its size however long the lines are that it was sent in', () => {
  fc.assert(
    fc.property(
      fc.integer({ min: 1, max: 5_000 }),
      fc.constantFrom(76, 72, 64, 60),
      fc.boolean(),
      fc.array(fc.integer({ min: 6_000, max: 9_000 })),
      (octets, lineLength, endsWithLine, others) => {
        const size = Float64Array.of(1, encodedSize(octets, lineLength, endsWithLine), octets);
        const isBase64 = Int32Array.of(0, 1, 0);
        const space = Float64Array.from([...others, octets]);
        const found = doubledCandidates({ size, isBase64 }, space);
        assert.ok(found.mail.includes(1), 'sent in base64');
        assert.ok(found.mail.includes(2), 'sent as it is');
        assert.ok(found.space.includes(others.length));
      },
    ),
  );
  const none = doubledCandidates({ size: Float64Array.of(4_000), isBase64: Int32Array.of(1) }, Float64Array.of(900));
  assert.deepEqual(none, { mail: [], space: [] });
});
