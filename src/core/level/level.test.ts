import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import type { Columns } from '../columns/columns';
import { largestCurve } from './curve';
import { type GaugedLevel, gaugeOf, missingAfter, missingNow } from './gauge';
import { level, type Target, targetBytes } from './level';
import { sizeBands, yearMatrix } from './matrix';
import { reach } from './ways';

const amount = (bytes: number, messages = 1) => ({ messages, bytes });
const columnsOf = (sizes: number[], received = sizes.map(() => 0)) =>
  ({
    length: sizes.length,
    size: Float64Array.from(sizes),
    received: Float64Array.from(received),
  }) as unknown as Columns;
const all = (rows: number) => new Uint8Array(rows).fill(1);

test('the level parts what is used, and never below nothing', () => {
  const parts = { limit: 1_000, mail: amount(500), trash: amount(100), plan: amount(50), planAndTrash: amount(150) };
  const { other, difference, after } = level({ ...parts, used: 700 });
  assert.deepEqual([other, difference, after], [100, 0, 550]);
  const lagging = level({ ...parts, used: 580 });
  assert.deepEqual([lagging.other, lagging.difference, lagging.after], [0, -20, 430]);
  assert.equal(level({ ...parts, used: 100 }).after, 0);
});

const LEVEL: GaugedLevel = {
  ...{ used: 1_000, limit: 1_000, target: { share: 0.8 }, targetBytes: 800 },
  ...{
    mail: { messages: 30, bytes: 800 },
    trash: { messages: 10, bytes: 100 },
    trashGuarded: { messages: 1, bytes: 5 },
  },
  ...{ after: 900, afterMessages: 30, other: 100 },
};

test('a share holds for both limits: the fuller one is shown, and the other where that one is down to it', () => {
  assert.equal(gaugeOf(LEVEL).of, 'bytes', 'no limit of messages');
  const byNumber = {
    ...LEVEL,
    used: 310,
    after: 310,
    targetBytes: 800,
    messageLimit: 100,
    messagesUsed: 99,
    afterMessages: 99,
  };
  assert.deepEqual(gaugeOf(byNumber), {
    of: 'messages',
    used: 99,
    limit: 100,
    target: 80,
    after: 99,
    mail: 30,
    trash: 10,
    trashGuarded: 1,
    other: 59,
    files: 0,
    pictures: 0,
    plannedFiles: 0,
  });
  const nothing = { bytes: 0, pictureBytes: 0 };
  const space = { files: { bytes: 70 }, pictures: { bytes: 50 }, trash: nothing, plan: nothing };
  const { other, files, pictures } = gaugeOf({ ...LEVEL, space });
  assert.deepEqual([other, files, pictures], [0, 70, 30], 'no more than is no mail');
  const going = { ...space, trash: { bytes: 12, pictureBytes: 2 }, plan: { bytes: 25, pictureBytes: 20 } };
  const planned = gaugeOf({ ...LEVEL, space: going, after: LEVEL.after - 37 });
  assert.deepEqual(
    [planned.files, planned.pictures, planned.plannedFiles, planned.trash, planned.other],
    [70 - 15, 8, 25, LEVEL.trash.bytes + 12, 0],
  );
  assert.deepEqual(missingNow(byNumber), { messages: 19 });
  assert.deepEqual(missingAfter({ ...byNumber, afterMessages: 70 }), { messages: 0 });
  // Both are above: once the plan has brought the number down, the octets are what is missing.
  const both = { ...LEVEL, messageLimit: 100, messagesUsed: 101, afterMessages: 101 };
  assert.equal(gaugeOf(both).of, 'messages');
  assert.deepEqual(missingAfter({ ...both, afterMessages: 60 }), { bytes: 100 });
  assert.equal(
    gaugeOf({ ...byNumber, target: { bytes: 5 }, targetBytes: 5 }).of,
    'bytes',
    'who says octets means octets',
  );
  assert.equal(gaugeOf({ ...byNumber, limit: null, targetBytes: null }).of, 'messages', 'the only limit there is');
});

test('nothing is missing only where every limit that the target is of is kept', () => {
  const amount = fc.nat(1_000);
  fc.assert(
    fc.property(
      amount,
      amount,
      amount,
      amount,
      fc.option(amount),
      fc.option(amount),
      fc.integer({ min: 1, max: 100 }),
      (used, after, messages, left, limit, most, percent) => {
        const target: Target = { share: percent / 100 };
        const so = { ...LEVEL, used, after, limit, target, targetBytes: targetBytes(target, limit) };
        const told = {
          ...so,
          messagesUsed: messages,
          afterMessages: left,
          ...(most === null ? {} : { messageLimit: most }),
        };
        const keeps = (amount: number, of: number | null) => of === null || amount <= Math.floor((percent / 100) * of);
        const missing = missingAfter(told);
        if (limit === null && most === null) return assert.equal(missing, null);
        const isNothing = missing !== null && Object.values(missing)[0] === 0;
        assert.equal(isNothing, keeps(after, limit) && keeps(left, most));
      },
    ),
  );
});

test('a target is octets, a share of a known limit, or messages; what is missing counts down to nothing', () => {
  assert.equal(targetBytes({ bytes: 7 }, null), 7);
  assert.equal(targetBytes({ share: 0.8 }, 1_001), 800, 'whole octets, and never more than the share');
  assert.equal(targetBytes({ share: 0.8 }, null), null);
  assert.equal(targetBytes({ messages: 5 }, 1_000), null);
  const at = { ...LEVEL, after: 900, afterMessages: 12 };
  assert.deepEqual(missingAfter({ ...at, target: { messages: 10 }, targetBytes: null }), { messages: 2 });
  assert.deepEqual(missingAfter({ ...at, target: { messages: 12 }, targetBytes: null }), { messages: 0 });
  assert.deepEqual(missingAfter({ ...at, target: { share: 0.8 }, targetBytes: 800 }), { bytes: 100 });
  assert.deepEqual(missingAfter({ ...at, target: { share: 0.8 }, targetBytes: 901 }), { bytes: 0 });
  assert.equal(missingAfter({ ...at, target: { share: 0.8 }, targetBytes: null }), null);
  assert.deepEqual(missingNow({ ...at, target: { messages: 10 }, targetBytes: null }), { messages: 30 });
});

test('a way takes just enough, and with it what is as large as the last one', () => {
  const sizes = [50, 40, 30, 30, 20];
  const order = Uint32Array.from(sizes.keys());
  const go = (bytes: number, mask = all(5)) =>
    reach(
      columnsOf(sizes),
      order,
      mask,
      { bytes },
      (row) => sizes[row] as number,
      (value, last) => value === last,
    );
  assert.deepEqual(go(90), { messages: 2, bytes: 90, reaches: true, edge: 40 });
  assert.deepEqual(
    go(91),
    { messages: 4, bytes: 150, reaches: true, edge: 30 },
    'both of 30: criteria can’t tell them apart',
  );
  assert.deepEqual(go(170), { messages: 5, bytes: 170, reaches: true, edge: 20 });
  assert.deepEqual(go(171), { messages: 5, bytes: 170, reaches: false, edge: 20 });
  assert.deepEqual(go(0), { messages: 0, bytes: 0, reaches: true, edge: undefined });
  assert.deepEqual(go(60, Uint8Array.of(0, 1, 1, 0, 1)), { messages: 2, bytes: 70, reaches: true, edge: 30 });
  const two = reach(
    columnsOf(sizes),
    order,
    all(5),
    { messages: 2 },
    (row) => row,
    () => false,
  );
  assert.deepEqual(two, { messages: 2, bytes: 90, reaches: true, edge: 1 });
});

test('the matrix counts each message once, at the edges in the upper cell', () => {
  const year = (number: number) => Date.UTC(number, 0) / 1000;
  const [, ten, hundred] = sizeBands('binary');
  const sizes = [0, (ten as number) - 1, ten as number, hundred as number];
  const received = [year(2019) - 1, year(2019), year(2020) - 1, year(2021)];
  const { years, bands, cells } = yearMatrix(columnsOf(sizes, received), all(4), 'binary', 2021, year);
  assert.deepEqual(years, [2018, 2019, 2020, 2021]);
  const at = (y: number, band: number) => cells.messages[years.indexOf(y) * bands.length + band];
  assert.deepEqual([at(2018, 0), at(2019, 0), at(2019, 1), at(2021, 2)], [1, 1, 1, 1]);
  assert.equal(
    cells.bytes.reduce((sum, bytes) => sum + bytes, 0),
    sizes.reduce((sum, size) => sum + size, 0),
  );
  const old = yearMatrix(columnsOf([1], [year(1990)]), all(1), 'decimal', 2021, year);
  assert.deepEqual([old.years[0], old.years.length], [2010, 12], 'what is older counts to the first column');
  assert.deepEqual(sizeBands('decimal'), [0, 10_000, 100_000, 1_000_000, 10_000_000]);
  const none = yearMatrix(columnsOf([1], [year(2010)]), Uint8Array.of(0), 'binary', 2021, year);
  assert.deepEqual([none.years, none.cells.messages.some(Boolean)], [[2021], false]);
});

test('the curve is the sum of the n largest, its half the fewest that hold half', () => {
  fc.assert(
    fc.property(fc.array(fc.tuple(fc.nat(1_000), fc.boolean()), { maxLength: 60 }), (rows) => {
      const sizes = rows.map(([size]) => size);
      const mask = Uint8Array.from(rows, ([, isIn]) => (isIn ? 1 : 0));
      const order = Uint32Array.from(sizes.keys()).sort((a, b) => (sizes[b] as number) - (sizes[a] as number));
      const { points, half, total } = largestCurve(columnsOf(sizes), mask, order);
      const kept = rows.flatMap(([size, isIn]) => (isIn ? [size] : [])).sort((a, b) => b - a);
      const sumOf = (n: number) => kept.slice(0, n).reduce((sum, size) => sum + size, 0);
      assert.deepEqual(total, { n: kept.length, bytes: sumOf(kept.length) });
      for (const { n, bytes } of points) assert.equal(bytes, sumOf(n));
      if (kept.length > 0) assert.deepEqual([points[0]?.n, points.at(-1)?.n], [1, kept.length]);
      if (kept.length > 0) {
        assert.ok(sumOf(half.n) * 2 >= total.bytes);
        assert.ok(half.n === 1 || sumOf(half.n - 1) * 2 < total.bytes);
      }
    }),
  );
  assert.deepEqual(
    largestCurve(columnsOf(Array(30).fill(1)), all(30), Uint32Array.from(Array(30).keys())).points.map(({ n }) => n),
    [1, 2, 3, 4, 5, 7, 9, 11, 14, 17, 21, 26, 30],
  );
});
