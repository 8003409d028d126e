import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { candidateGroups } from './candidates';
import { repeatingFolders } from './folders';
import { type Copy, goingOf, KEEP_RULES, KEPT_IN, keptOf } from './keeper';
import { readingOf } from './reading';
import { isTransportField, TRANSPORT_FIELDS } from './transport-fields';
import { twinGroups } from './twins';

const KiB = 1024;

test('candidates are those with the same hash and sizes near each other, as pairing all with all says', () => {
  const hash = fc.constantFrom(0, 1, -1, 65_536, -65_536, 2 ** 31 - 1, -(2 ** 31));
  const size = fc.constantFrom(1, 2, 60 * KiB, 64 * KiB + 1, 64 * KiB + 2, 100 * KiB, 300 * KiB);
  fc.assert(
    fc.property(fc.array(fc.tuple(hash, hash, size), { maxLength: 40 }), (rows) => {
      const { rows: found, starts } = candidateGroups({
        high: Int32Array.from(rows, ([high]) => high),
        low: Int32Array.from(rows, ([, low]) => low),
        size: Float64Array.from(rows, ([, , bytes]) => bytes),
      });
      const groups = Array.from({ length: starts.length - 1 }, (_, at) =>
        [...found.subarray(starts[at], starts[at + 1])].sort((a, b) => a - b),
      );
      // Two belong together where a chain of near ones leads from one to the other.
      const groupOf = rows.map((_, at) => at);
      const near = (a: number, b: number) => {
        const [one, other] = [rows[a], rows[b]] as [[number, number, number], [number, number, number]];
        return one[0] === other[0] && one[1] === other[1] && Math.abs(one[2] - other[2]) <= 64 * KiB;
      };
      for (let pass = 0; pass < rows.length; pass++)
        for (let a = 0; a < rows.length; a++)
          for (let b = 0; b < rows.length; b++)
            if (near(a, b)) groupOf[a] = Math.min(groupOf[a] as number, groupOf[b] as number);
      const expected = [...new Set(groupOf)]
        .map((group) => groupOf.flatMap((one, row) => (one === group ? [row] : [])))
        .filter(({ length }) => length > 1);
      const sorted = (all: number[][]) => all.map((group) => group.join()).sort();
      assert.deepEqual(sorted(groups), sorted(expected));
    }),
    { numRuns: 300 },
  );
});

const copies = fc
  .array(
    fc.record({
      guarded: fc.boolean(),
      flagged: fc.boolean(),
      answered: fc.boolean(),
      keptIn: fc.constantFrom(...KEPT_IN),
      received: fc.nat(3),
      taken: fc.boolean(),
    }),
    { minLength: 1, maxLength: 6 },
  )
  .map((all) => all.map((copy, at): Copy => ({ ...copy, id: 10 - at })));
const order = fc.shuffledSubarray([...KEEP_RULES]);

test('one of each stays always, and never one that another lot takes; what guards keep never goes', () => {
  fc.assert(
    fc.property(copies, order, (all, rules) => {
      const kept = keptOf(all, rules);
      const going = goingOf(all, kept);
      const stays = all.filter(({ id, taken }) => !going.includes(id) && !taken);
      assert.equal(
        kept === undefined,
        all.every(({ taken }) => taken),
      );
      if (kept) assert.ok(stays.some(({ id }) => id === kept.id));
      else assert.deepEqual(going, []);
      for (const { id, guarded, taken } of all) if (guarded || taken) assert.ok(!going.includes(id));
    }),
  );
});

test('200,000 copies of one message are one group, which is read whole and of which one stays', () => {
  const length = 200_000;
  const [same, numbers] = [new Int32Array(length), Int32Array.from({ length }, (_, row) => row)];
  const size = new Float64Array(length).fill(100);
  const groups = candidateGroups({ high: same, low: same, size });
  assert.deepEqual([groups.starts.length, groups.rows.length], [2, length]);
  const reading = readingOf(groups, { message: numbers, size, twin: same }, 1);
  assert.deepEqual([reading.messages.length, reading.bytes], [length, length * 100]);
  const rows = {
    id: numbers,
    message: numbers,
    folder: same,
    size,
    received: size,
    flags: same,
    ofConflict: same,
    twin: same,
  };
  const facts = { isGuarded: () => false, isTaken: () => false, keptIn: () => 'inbox' as const };
  const [group, ...others] = twinGroups({ ...rows, octets: same, kept: same }, facts, [...KEEP_RULES]);
  assert.deepEqual([group?.going.size, group?.kept, others], [length - 1, { id: 0, why: 'same' }, []]);
});

test('rules decide in the order in which they stand', () => {
  const copy = (id: number, more: Partial<Copy>): Copy => ({
    id,
    guarded: false,
    flagged: false,
    answered: false,
    keptIn: 'inbox',
    received: 5,
    taken: false,
    ...more,
  });
  const all = [
    copy(1, { answered: true }),
    copy(2, { flagged: true }),
    copy(3, { keptIn: 'filed' }),
    copy(4, { received: 1 }),
  ];
  assert.deepEqual(keptOf(all, [...KEEP_RULES]), { id: 2, why: 'flagged' });
  assert.deepEqual(keptOf(all, ['answered', 'flagged']), { id: 1, why: 'answered' });
  assert.deepEqual(keptOf(all, ['folder']), { id: 3, why: 'folder' });
  assert.deepEqual(keptOf(all, ['earliest', 'flagged']), { id: 4, why: 'earliest' });
  assert.deepEqual(keptOf([copy(7, {}), copy(6, {})], [...KEEP_RULES]), { id: 6, why: 'same' });
  assert.equal(keptOf([copy(1, { taken: true })], [...KEEP_RULES]), undefined);
});

test('a folder repeats another where most of it lies there too; of two that repeat each other one is told', () => {
  const [old, archive, inbox] = [3, 1, 2];
  const groups = [
    ...Array.from({ length: 88 }, () => [old, archive]),
    ...Array.from({ length: 5 }, () => [old, inbox]),
    [inbox, inbox],
  ];
  const counts = new Map([
    [old, 90],
    [archive, 400],
    [inbox, 1_000],
  ]);
  assert.deepEqual(repeatingFolders(counts, groups), [{ folder: old, in: archive, messages: 90, both: 88 }]);
  const same = new Map([
    [1, 20],
    [2, 20],
  ]);
  const all = Array.from({ length: 20 }, () => [1, 2]);
  assert.deepEqual(repeatingFolders(same, all), [{ folder: 2, in: 1, messages: 20, both: 20 }]);
  assert.deepEqual(repeatingFolders(same, all.slice(0, 15)), [], 'three in four are too few');
  assert.deepEqual(
    repeatingFolders(
      new Map([
        [1, 9],
        [2, 9],
      ]),
      all.slice(0, 9),
    ),
    [],
    'so small it may be chance',
  );
  const everywhere = Array.from({ length: 20 }, () => Array.from({ length: 40 }, (_, at) => at));
  assert.deepEqual(repeatingFolders(new Map(Array.from({ length: 40 }, (_, at) => [at, 20])), everywhere), []);
});

test('a folder may repeat several others; those that it repeats are not told', () => {
  const counts = new Map([
    [1, 500],
    [2, 500],
    [3, 20],
  ]);
  const groups = [...Array(10).fill([1, 3]), ...Array(9).fill([3, 2]), [3, 3]];
  assert.deepEqual(repeatingFolders(counts, groups), [{ folder: 3, in: null, messages: 20, both: 19 }]);
  assert.deepEqual(repeatingFolders(counts, groups.slice(0, 15)), []);
  const repeated = new Map([
    [1, 15],
    [2, 12],
    [3, 5],
  ]);
  const most = [...Array(12).fill([1, 2]), ...Array(3).fill([1, 3])];
  assert.deepEqual(repeatingFolders(repeated, most), [{ folder: 2, in: 1, messages: 12, both: 12 }]);
});

test('fields that servers add are told by name, in whole and by how they begin', () => {
  for (const name of ['received', 'x-spam-flag', 'arc-seal']) assert.ok(isTransportField(name), name);
  for (const name of ['from', 'receive', 'x-spam', 'constructor', 'list-id', ''])
    assert.ok(!isTransportField(name), name);
  for (const [name, reason] of Object.entries(TRANSPORT_FIELDS)) assert.match(`${name} ${reason}`, /^[a-z-]+ .+\.$/);
});
