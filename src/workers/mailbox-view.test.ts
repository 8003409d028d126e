import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { sampleColumns } from '../../test/column-samples';
import { applyDifference } from '../core/columns/difference';
import { criteriaToMask } from '../core/columns/mask';
import { parseCriteria } from '../core/criteria/parse';
import { largestCurve } from '../core/level/curve';
import { yearMatrix } from '../core/level/matrix';
import { MailboxView } from './mailbox-view';
import type { ListOrder, ListWindow } from './protocol';

const NOW = new Date('2026-11-25T00:00:00Z');
const columns = sampleColumns(400, 5);
const TRASH = new Set(['Folder 3']);
const outside = { idsOf: () => [], bySubject: () => undefined };
const open = () => new MailboxView(columns, 'UTC', TRASH, outside, NOW);
const WHERES = ['', 'size > 20 kB', 'category = mailings', 'folder = "Folder 0"', 'unseen', 'age > 3y', 'from ~ post1'];
const ORDERS: ListOrder[] = ['size', 'date', 'from', 'folder', 'attached', 'category'];
const view = (order: ListOrder, descending: boolean): ListWindow => ({ order, descending, first: 0, count: 1_000 });

function maskOf(where: string): Uint8Array {
  const parsed = parseCriteria(where);
  assert.ok(parsed.ok);
  const mask = criteriaToMask(parsed.criteria, columns, { now: NOW, timeZone: 'UTC', outside: new Map() });
  return mask.map((met, row) =>
    TRASH.has(columns.dictionaries.folder[columns.folder[row] as number] as string) ? 0 : met,
  );
}

const amountOf = (ids: Iterable<number>) => {
  let [messages, bytes] = [0, 0];
  for (const id of ids) {
    messages++;
    bytes += columns.size[columns.id.indexOf(id)] as number;
  }
  return { messages, bytes };
};

test('marks by ranges survive narrowing and ordering, and their sum is exact at every moment', () => {
  const step = fc.oneof(
    fc.record({ do: fc.constant('narrow' as const), where: fc.constantFrom(...WHERES) }),
    fc.record({ do: fc.constant('order' as const), order: fc.constantFrom(...ORDERS), descending: fc.boolean() }),
    fc.record({ do: fc.constant('range' as const), first: fc.nat(60), length: fc.nat(30), on: fc.boolean() }),
    fc.record({ do: fc.constant('toggle' as const), index: fc.nat(40) }),
    fc.record({ do: fc.constant('all' as const) }),
    fc.record({ do: fc.constant('none' as const) }),
  );
  fc.assert(
    fc.property(fc.array(step, { maxLength: 14 }), (steps) => {
      const mailbox = open();
      const marked = new Set<number>();
      let basis: Set<number> | undefined;
      let where = '';
      let [order, descending]: [ListOrder, boolean] = ['size', true];
      for (const one of steps) {
        const shown: number[] = mailbox.narrow(where, NOW, view(order, descending)).rows.map(({ id }) => id);
        if (one.do === 'narrow') where = one.where;
        if (one.do === 'order') [order, descending] = [one.order, one.descending];
        if (one.do === 'range') {
          mailbox.mark({ kind: 'range', first: one.first, last: one.first + one.length, on: one.on });
          for (const id of shown.slice(one.first, one.first + one.length + 1))
            one.on ? marked.add(id) : marked.delete(id);
        }
        if (one.do === 'toggle') {
          mailbox.mark({ kind: 'toggle', index: one.index });
          const id = shown[one.index];
          if (id !== undefined && !marked.delete(id)) marked.add(id);
        }
        if (one.do === 'all') {
          mailbox.mark({ kind: 'all' });
          for (const id of shown) marked.add(id);
          basis = new Set(shown);
        }
        if (one.do === 'none') {
          mailbox.mark({ kind: 'none' });
          marked.clear();
          basis = undefined;
        }
        const now = mailbox.narrow(where, NOW, view(order, descending));
        const mask = maskOf(where);
        assert.deepEqual(
          new Set(now.rows.map(({ id }) => id)),
          new Set([...columns.id].filter((_, row) => mask[row] === 1)),
        );
        const excepted: number = basis ? [...basis].filter((id) => !marked.has(id)).length : 0;
        assert.deepEqual(now.marked, { ...amountOf(marked), excepted });
        assert.ok(now.rows.every((row) => row.marked === marked.has(row.id)));
        const { where: by, ids, except = [], expect } = mailbox.selector();
        assert.deepEqual(expect, amountOf(marked));
        const named = by === undefined ? ids : [...(basis ?? [])].filter((id) => !except.includes(id));
        assert.deepEqual(new Set(named), marked);
      }
    }),
    { numRuns: 150 },
  );
});

test('marks are kept when the index changes, but of what went', () => {
  const mailbox = open();
  mailbox.narrow('unseen', NOW, view('size', true));
  mailbox.mark({ kind: 'all' });
  const before = mailbox.narrow('unseen', NOW, view('size', true)).rows.map(({ id }) => id);
  const gone = before.slice(0, 7);
  const next = new MailboxView(applyDifference(columns, sampleColumns(0), gone), 'UTC', TRASH, outside, NOW);
  next.takeMarks(mailbox);
  const { marked, total } = next.narrow('unseen', NOW, view('size', true));
  assert.deepEqual(marked, { ...amountOf(before.slice(7)), excepted: 0 });
  assert.deepEqual(total, amountOf(before.slice(7)));
});

test('each way to the target says in criteria exactly what it takes, and no less would do', () => {
  for (const need of [{ bytes: 3_000_000 }, { messages: 150 }, { bytes: 1e12 }]) {
    const mailbox = open();
    const { ways } = mailbox.measure({ need, units: 'binary', now: NOW.getTime(), free: ['Folder 3', 'Folder 1'] });
    for (const way of ways.filter(({ kind }) => kind !== 'free')) {
      const { total } = mailbox.narrow(way.where, NOW, view('size', true));
      assert.deepEqual(total, { messages: way.messages, bytes: way.bytes }, way.where);
      assert.equal(way.reaches, 'bytes' in need ? way.bytes >= need.bytes : way.messages >= need.messages);
    }
    const [bySize] = ways;
    const sizes = [...columns.size].filter((_, row) => maskOf('')[row] === 1).sort((a, b) => b - a);
    let taken = 0;
    let bytes = 0;
    while (taken < sizes.length && ('bytes' in need ? bytes < need.bytes : taken < need.messages))
      bytes += sizes[taken++] as number;
    while (taken < sizes.length && sizes[taken] === sizes[taken - 1]) bytes += sizes[taken++] as number;
    assert.deepEqual([bySize?.messages, bySize?.bytes], [taken, bytes]);
    const free = ways.find(({ kind }) => kind === 'free');
    const inFree = [...columns.id].filter((_, row) =>
      ['Folder 3', 'Folder 1'].includes(columns.dictionaries.folder[columns.folder[row] as number] as string),
    );
    assert.deepEqual({ messages: free?.messages, bytes: free?.bytes }, amountOf(inFree));
  }
});

test('the matrix adds up to everything, and the curve to all of it; half is the first place that holds half', () => {
  const mask = new Uint8Array(columns.length).fill(1);
  const all = amountOf(columns.id);
  const yearStarts = (year: number) => Date.UTC(year, 0) / 1000;
  const { years, bands, cells } = yearMatrix(columns, mask, 'decimal', 2026, yearStarts);
  assert.equal(
    cells.bytes.reduce((sum, bytes) => sum + bytes, 0),
    all.bytes,
  );
  const [year, band] = [years.indexOf(2024), bands.indexOf(10_000)];
  const rows = [...columns.size.keys()].filter((row) => {
    const received = columns.received[row] as number;
    const size = columns.size[row] as number;
    return received >= yearStarts(2024) && received < yearStarts(2025) && size >= 10_000 && size < 100_000;
  });
  assert.equal(cells.messages[year * bands.length + band], rows.length);
  const sorted = [...columns.size].sort((a, b) => b - a);
  const bySize = Uint32Array.from(
    [...columns.size.keys()].sort((a, b) => (columns.size[b] as number) - (columns.size[a] as number)),
  );
  const { points, half, total } = largestCurve(columns, mask, bySize);
  assert.deepEqual([total.n, total.bytes], [all.messages, all.bytes]);
  assert.deepEqual(points.at(-1), total);
  const sums = sorted.map((_, n) => sorted.slice(0, n + 1).reduce((sum, size) => sum + size, 0));
  assert.equal(half.n, sums.findIndex((sum) => sum * 2 >= all.bytes) + 1);
  for (const { n, bytes } of points) assert.equal(bytes, sums[n - 1]);
});
