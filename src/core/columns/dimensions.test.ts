import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { sampleColumns } from '../../../test/column-samples';
import { parseCriteria } from '../criteria/parse';
import type { Criteria } from '../criteria/tree';
import { allOf, byDimension, DIMENSIONS, dimensionOf, intervalOf } from './dimensions';
import { criteriaToMask } from './mask';

const NOW = new Date('2026-11-24T12:00:00Z');
const CONTEXT = { now: NOW, timeZone: 'Europe/Berlin', outside: new Map<string, Uint8Array>() };
const parsed = (text: string): Criteria => {
  const result = parseCriteria(text);
  assert.ok(result.ok, text);
  return result.criteria;
};
const columns = sampleColumns(400);
const octets = fc.constantFrom(
  ...[...columns.size.slice(0, 20)].flatMap((size) => [size - 1, size, size + 1, size + 0.5]),
);

test('an interval lets through what its expression does, at the very edges', () => {
  const sizes = fc.record({ op: fc.constantFrom('<', '<=', '>', '>=', '='), number: octets });
  fc.assert(
    fc.property(fc.array(sizes, { minLength: 1, maxLength: 3 }), (tests) => {
      const text = tests.map(({ op, number }) => `size ${op} ${number}`).join(' and ');
      const interval = intervalOf(parsed(text), CONTEXT);
      assert.ok(interval, text);
      const mask = criteriaToMask(parsed(text), columns, CONTEXT);
      for (const [row, size] of columns.size.entries())
        assert.equal(size >= interval.from && size < interval.to, mask[row] === 1, `${text}: ${size}`);
    }),
  );
  for (const text of [
    'received < 2021-07-01',
    'received >= 2020-01-31 and received <= 2021-02-28',
    'age > 3y',
    'age <= 18mo',
    'received = 2022-03-01',
  ]) {
    const interval = intervalOf(parsed(text), CONTEXT);
    const mask = criteriaToMask(parsed(text), columns, CONTEXT);
    for (const [row, at] of columns.received.entries())
      assert.equal(at >= (interval?.from as number) && at < (interval?.to as number), mask[row] === 1, text);
  }
});

test('what is no interval is none', () => {
  for (const text of ['size != 5', 'not size > 5', 'size > 5 or size < 2', 'received != 2021-07-01'])
    assert.equal(intervalOf(parsed(text), CONTEXT), undefined, text);
  assert.deepEqual(intervalOf(parsed(''), CONTEXT), { from: -Infinity, to: Infinity });
  const none = intervalOf(parsed('size > 9 and size < 3'), CONTEXT);
  assert.ok(none && none.from >= none.to);
});

test('each condition belongs to one dimension, and all parts together mean what the whole does', () => {
  for (const [text, dimension] of [
    ['size > 1', 'size'],
    ['age > 1y', 'time'],
    ['received < 2020-01-01', 'time'],
    ['date < 2020-01-01', 'rest'],
    ['category = lists', 'category'],
    ['under = Sent', 'folder'],
    ['files > 0 or kind = picture', 'files'],
    ['flagged', 'flags'],
    ['keyword = x', 'flags'],
    ['guarded', 'rest'],
    ['not (seen or flagged)', 'flags'],
    ['from ~ a or domain = b.example', 'sender'],
    ['size > 1 or seen', 'rest'],
    ['subject ~ a', 'rest'],
  ] as const)
    assert.equal(dimensionOf(parsed(text)), dimension, text);
  const whole = parsed(
    'size > 20 kB and (category = letters or category = lists) and not flagged and (size < 2 MB or seen) and age > 1y',
  );
  const parts = byDimension(whole);
  const mask = criteriaToMask(
    allOf(DIMENSIONS.map((name) => parts[name]).filter(({ kind }) => kind !== 'everything')),
    columns,
    CONTEXT,
  );
  assert.deepEqual(mask, criteriaToMask(whole, columns, CONTEXT));
  assert.equal(parts.size.kind, 'test');
  assert.equal(parts.rest.kind, 'any');
});
