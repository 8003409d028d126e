import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { anyCriteria } from '../../../test/criteria-samples';
import { instantOfAge, instantsOfDay } from './instants';
import { parseCriteria } from './parse';
import { printCriteria } from './print';

test('printing and parsing again gives the same tree', () => {
  fc.assert(
    fc.property(anyCriteria, (criteria) => {
      const parsed = parseCriteria(printCriteria(criteria));
      assert.deepEqual(parsed, { ok: true, criteria });
    }),
    { numRuns: 2_000 },
  );
});

test('words of the language count in any letter case, and `and` binds closer than `or`', () => {
  const one = parseCriteria('SIZE > 10 mb AND NOT Flagged or UNSEEN');
  const other = parseCriteria('(size > 10 MB and (not flagged)) or unseen');
  assert.deepEqual(one, other);
  assert.ok(one.ok && printCriteria(one.criteria) === 'size > 10 MB and not flagged or unseen');
});

test('an error says where and what was expected, and nothing crashes the parser', () => {
  const at = (text: string) => {
    const parsed = parseCriteria(text);
    return parsed.ok ? undefined : parsed.error.at;
  };
  assert.equal(at('size > 10 PB'), 10);
  assert.equal(at('date < 2021-02-30'), 7);
  assert.equal(at('colour = red'), 0);
  assert.equal(at('size ~ 5'), 5);
  assert.equal(at('(unseen or'), 10);
  assert.equal(at('unseen )'), 7);
  assert.equal(at('subject ~ "open'), 15);
  assert.equal(at('age > 3 years'), 8);
  assert.equal(at(`${'('.repeat(10_000)}`), 64);
  fc.assert(fc.property(fc.string({ unit: 'grapheme' }), (text) => void parseCriteria(text)));
});

test('months and years are calendar units where the user is, days are 86,400 s (RFC 5032)', () => {
  const now = new Date('2024-03-31T10:00:00Z');
  assert.equal(instantOfAge(1, 'mo', now, 'UTC').toISOString(), '2024-02-29T10:00:00.000Z');
  assert.equal(instantOfAge(1, 'd', now, 'Europe/Berlin').toISOString(), '2024-03-30T10:00:00.000Z');
  // 12:00 in Berlin, summer time since that morning: a calendar year before it was summer time as well.
  assert.equal(instantOfAge(1, 'y', now, 'Europe/Berlin').toISOString(), '2023-03-31T10:00:00.000Z');
  const { start, end } = instantsOfDay('2024-03-31', 'Europe/Berlin');
  assert.equal((end.getTime() - start.getTime()) / 3_600_000, 23);
});
