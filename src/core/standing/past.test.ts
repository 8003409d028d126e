import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { instantOfAge } from '../criteria/instants';
import type { Criteria } from '../criteria/tree';
import { columnsOfBits, PastMailbox, possibleEver, stillParts } from './past';

const DAY = 86_400_000;
const START = Date.UTC(2026, 0, 1);

/** A message with its files, or one file that stands for the message itself. */
interface Told {
  received: number;
  author: number;
  kept: boolean;
  files: { size: number; still: boolean[] }[];
}

/** Still conditions are `keyword = n`: whether the nth holds is drawn. */
const STILL = 3;
const still = fc
  .nat(STILL - 1)
  .map((n): Criteria => ({ kind: 'test', field: 'keyword', op: '=', value: { type: 'text', text: `${n}` } }));
const order = fc.constantFrom('<' as const, '<=' as const, '>' as const, '>=' as const, '=' as const, '!=' as const);
const age = fc
  .tuple(order, fc.nat(200))
  .map(([op, number]): Criteria => ({ kind: 'test', field: 'age', op, value: { type: 'age', number, unit: 'd' } }));
const place = fc
  .tuple(fc.constantFrom('newest' as const, 'monthly' as const), order, fc.nat(4))
  .map(([field, op, number]): Criteria => ({ kind: 'test', field, op, value: { type: 'count', number } }));
const criteria = fc.letrec<{ any: Criteria }>((tie) => ({
  any: fc.oneof(
    { maxDepth: 3 },
    still,
    age,
    place,
    tie('any').map((of): Criteria => ({ kind: 'not', of })),
    fc
      .tuple(fc.constantFrom('all' as const, 'any' as const), fc.array(tie('any'), { minLength: 1, maxLength: 3 }))
      .map(([kind, of]): Criteria => ({ kind, of })),
  ),
})).any;
const message = fc.record({
  received: fc.nat(200).map((day) => START + day * DAY),
  author: fc.nat(2),
  kept: fc.boolean(),
  files: fc.array(
    fc.record({
      size: fc.integer({ min: 1, max: 99 }),
      still: fc.array(fc.boolean(), { minLength: STILL, maxLength: STILL }),
    }),
    { maxLength: 2 },
  ),
});

const monthOf = (at: number) => new Date(at).getUTCMonth();
const holds = (left: number, op: string, right: number) =>
  ({
    '<': left < right,
    '<=': left <= right,
    '>': left > right,
    '>=': left >= right,
    '=': left === right,
    '!=': left !== right,
  })[op] as boolean;

/** Whether criteria mean a file, said as plainly as can be. */
function means(of: Criteria, there: Told[], one: Told, file: Told['files'][number], at: Date): boolean {
  const go = (part: Criteria): boolean => {
    if (part.kind === 'not') return !go(part.of);
    if (part.kind === 'all') return part.of.every(go);
    if (part.kind === 'any') return part.of.some(go);
    if (part.kind !== 'test') return part.kind === 'everything';
    const { value, op, field } = part;
    if (value.type === 'text') return file.still[Number(value.text)] as boolean;
    if (value.type === 'age') return holds(+instantOfAge(value.number, value.unit, at, 'UTC'), op, one.received);
    if (value.type !== 'count') return false;
    const newer = there.filter(
      (other, index) =>
        one.author !== 0 &&
        other.author === one.author &&
        (field === 'newest' || monthOf(other.received) === monthOf(one.received)) &&
        (other.received > one.received || (other.received === one.received && index > there.indexOf(one))),
    );
    return holds(newer.length + 1, op, value.number);
  };
  return go(of);
}

test('what is taken at each instant of the past is what looking at each message says, for any criteria', () => {
  const ends = [40, 80, 81, 200].map((day) => new Date(START + day * DAY));
  fc.assert(
    fc.property(criteria, fc.array(message, { maxLength: 12 }), (asked, told) => {
      const parts = stillParts(asked);
      // Rows as the database gives them: what came in last first, ids falling; a message without files is one row without size.
      const rows = told
        .map((one, id) => ({ one, id }))
        .sort((a, b) => b.one.received - a.one.received || b.id - a.id)
        .flatMap(({ one, id }) =>
          (one.files.length > 0 ? one.files : [undefined]).map((file) => ({ one, id: id + 1, file })),
        );
      const ints = (of: (row: (typeof rows)[number]) => number) => Int32Array.from(rows, of);
      const past = new PastMailbox(
        {
          id: ints(({ id }) => id),
          received: Float64Array.from(rows, ({ one }) => one.received * 1000),
          size: Float64Array.from(rows, ({ file }) => file?.size ?? -1),
          flags: ints(() => 0),
          author: ints(({ one }) => one.author),
          month: ints(({ one }) => monthOf(one.received)),
          kept: ints(({ one }) => Number(one.kept)),
          still: columnsOfBits(parts.length).map((column) =>
            ints(({ one, file }) =>
              column.reduce(
                (bits, part, bit) =>
                  bits | (file && means(parts[part] as Criteria, told, one, file, ends[0] as Date) ? 1 << bit : 0),
                0,
              ),
            ),
          ),
        },
        asked,
        'UTC',
      );
      const named = (taken: number[]) => taken.map((row) => `${rows[row]?.id}: ${rows[row]?.file?.size}`).sort();
      const expected = (there: Told[], at: Date) =>
        there.flatMap((one) =>
          one.files.flatMap((file) =>
            !one.kept && means(asked, there, one, file, at)
              ? [{ one, name: `${told.indexOf(one) + 1}: ${file.size}` }]
              : [],
          ),
        );
      const now = new Date(START + 150 * DAY);
      assert.deepEqual(
        named(past.matching(now)),
        expected(told, now)
          .map(({ name }) => name)
          .sort(),
      );
      const gone = new Set<Told>();
      for (const end of ends) {
        const there = told.filter((one) => one.received < +end && !gone.has(one));
        const taken = expected(there, end);
        assert.deepEqual(named(past.take(end)), taken.map(({ name }) => name).sort());
        for (const { one } of taken) gone.add(one);
      }
      // Whatever matches at any instant is among what could.
      for (const one of told)
        for (const file of one.files)
          if (means(asked, told, one, file, now))
            assert.ok(means(possibleEver(asked), told, one, file, now), JSON.stringify(asked));
    }),
    { numRuns: 500 },
  );
});

test('more conditions than a number has bits lie in several columns', () => {
  assert.deepEqual(
    columnsOfBits(65).map(({ length }) => length),
    [30, 30, 5],
  );
  assert.deepEqual(columnsOfBits(0), []);
  const parts = Array.from(
    { length: 65 },
    (_, at): Criteria => ({
      kind: 'all',
      of: [
        { kind: 'test', field: 'keyword', op: '=', value: { type: 'text', text: `${at}` } },
        { kind: 'test', field: 'age', op: '>', value: { type: 'age', number: 1, unit: 'd' } },
      ],
    }),
  );
  const one = (bit: number) => Int32Array.of(bit);
  const of = (column: number, bit: number) =>
    new PastMailbox(
      {
        id: one(1),
        received: Float64Array.of(START * 1000),
        size: Float64Array.of(1),
        flags: one(0),
        author: one(0),
        month: one(0),
        kept: one(0),
        still: [0, 1, 2].map((at) => one(at === column ? 1 << bit : 0)),
      },
      { kind: 'all', of: [{ kind: 'not', of: { kind: 'any', of: parts.slice(0, 64) } }, parts[64] as Criteria] },
      'UTC',
    ).matching(new Date(START + 9 * DAY));
  assert.deepEqual([of(2, 4), of(2, 3), of(1, 29)], [[0], [], []]);
});
