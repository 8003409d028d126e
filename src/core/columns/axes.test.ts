import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { heightOf, monthColumn, monthsOf, SIZE_BINS, sizeAt, sizeBin } from './axes';

const seconds = (text: string) => Date.parse(text) / 1000;
const NOW = new Date('2026-11-24T12:00:00Z');
const months = (received: number[], zone = 'UTC') => monthsOf(Float64Array.from(received), NOW, zone);
const starts = (list: Float64Array) => [...list].map((at) => new Date(at * 1000).toISOString().slice(0, 16));

test('the months reach from that of the oldest message to the end of that of the newest, where the user is', () => {
  assert.deepEqual(starts(months([seconds('2026-09-01T00:00:00Z'), seconds('2026-10-31T23:59:59Z')])), [
    '2026-09-01T00:00',
    '2026-10-01T00:00',
    '2026-11-01T00:00',
  ]);
  assert.deepEqual(starts(months([seconds('2026-08-31T22:00:00Z')], 'Europe/Berlin')), [
    '2026-08-31T22:00',
    '2026-09-30T22:00',
  ]);
  assert.deepEqual(starts(months([])), ['2026-11-01T00:00', '2026-12-01T00:00'], 'without mail it is this month');
  assert.deepEqual(
    starts(months([seconds('2099-01-01T00:00:00Z')])).at(-1),
    '2026-12-01T00:00',
    'a wrong clock makes no column',
  );
  assert.equal(months([0, NOW.getTime() / 1000]).length, 481, 'forty years, and what is older counts to the first');
});

test('each message is in the month that holds its instant', () => {
  const range = { min: seconds('2020-01-01T00:00:00Z'), max: NOW.getTime() / 1000 };
  fc.assert(
    fc.property(
      fc.array(fc.integer(range), { minLength: 1, maxLength: 40 }),
      fc.constantFrom('UTC', 'Europe/Berlin'),
      (received, zone) => {
        const list = months(received, zone);
        const edges = Float64Array.from([...received, ...list.slice(0, -1)]);
        for (const [row, column] of monthColumn(edges, list).entries()) {
          const at = edges[row] as number;
          assert.ok((list[column] as number) <= at && at < (list[column + 1] as number), `${at} in ${column}`);
        }
      },
    ),
  );
});

test('rows of the field are four to a doubling; a size lies at the height of its row', () => {
  assert.deepEqual([0, 255, 256, 304, 305, 362, 511, 512].map(sizeBin), [0, 0, 0, 0, 1, 1, 3, 4]);
  assert.equal(sizeBin(2 ** 40), SIZE_BINS - 1);
  assert.deepEqual([heightOf(0), heightOf(256), heightOf(512), heightOf(2 ** 60)], [0, 0, 4, SIZE_BINS]);
  fc.assert(
    fc.property(fc.integer({ min: 256, max: 2 ** 28 - 1 }), (size) => {
      assert.equal(Math.floor(heightOf(size)), sizeBin(size));
      assert.ok(Math.abs(sizeAt(heightOf(size)) - size) < size * 1e-9);
    }),
  );
});
