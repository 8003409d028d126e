import assert from 'node:assert/strict';
import { test } from 'node:test';
import { tableFromIPC } from 'apache-arrow';
import fc from 'fast-check';
import { sampleColumns } from '../../../test/column-samples';
import { DuckDb } from '../../../test/duckdb';
import { CATEGORIES } from '../categories/categories';
import { parseCriteria } from '../criteria/parse';
import type { Criteria } from '../criteria/tree';
import { FILE_KINDS } from '../files/kinds';
import { fromArrow, toArrow } from './arrow';
import { monthColumn, monthsOf, SIZE_BINS, sizeBin } from './axes';
import type { Columns } from './columns';
import { type Change, CrossFilter, type Tallies } from './cross-filter';
import { applyDifference } from './difference';
import { byDimension, DIMENSIONS, type Dimension, intervalOf } from './dimensions';
import { criteriaToMask } from './mask';
import { largest, orderBy } from './order';

const NOW = new Date('2026-11-25T00:00:00Z');
const CONTEXT = { now: NOW, timeZone: 'UTC', outside: new Map<string, Uint8Array>() };

/** Rows of columns as plain objects, whatever their codes. */
function plain(columns: Columns): object[] {
  const { dictionaries: d } = columns;
  return Array.from(columns.id, (id, row) => ({
    id,
    size: columns.size[row],
    received: columns.received[row],
    flags: columns.flags[row],
    from: `${d.author.name[columns.author[row] as number]} <${d.author.address[columns.author[row] as number]}>`,
    domain: d.author.domain[columns.author[row] as number],
    folder: d.folder[columns.folder[row] as number],
    list: d.list[columns.list[row] as number],
    keywords: d.keywords[columns.keywords[row] as number],
  }));
}

/** Some rows of columns. */
function part(columns: Columns, keep: (row: number) => boolean): Columns {
  const rows = [...columns.id.keys()].filter(keep);
  const picked = Object.fromEntries(
    Object.entries(columns)
      .filter(([, values]) => ArrayBuffer.isView(values))
      .map(([name, values]) => [name, values.filter((_: number, row: number) => keep(row))]),
  );
  return { ...columns, ...picked, length: rows.length };
}

test('columns survive the stream; Arrow’s own reader and DuckDB, neither of ours, read the same sums', async () => {
  for (const count of [0, 1, 2, 1_000, 1_001]) {
    const columns = sampleColumns(count);
    const note = { version: '7.abc', difference: false, gone: [4, 9], trash: ['Trash'], sent: ['Sent'] };
    const octets = toArrow(columns, note);
    const read = fromArrow(octets);
    assert.deepEqual(read.note, note);
    assert.deepEqual(plain(read.columns), plain(columns));
    assert.equal(tableFromIPC(octets).numRows, count);
  }
  const columns = sampleColumns(2_000);
  const octets = toArrow(columns, { version: '1.x', difference: false, gone: [], trash: [], sent: [] });
  const database = await DuckDb.open();
  database.insertStream('mail', octets);
  const [row] = database.query(
    `select count(*)::int as messages, sum(size)::double as bytes, count(distinct from_domain)::int as domains,
         max(epoch(received))::double as newest from mail where folder = 'Folder 0' and size > 10000`,
  );
  const wanted = mask('folder = "Folder 0" and size > 10000', columns);
  const rows = [...wanted.keys()].filter((index) => wanted[index] === 1);
  assert.deepEqual(row, [
    rows.length,
    rows.reduce((sum, index) => sum + (columns.size[index] as number), 0),
    new Set(rows.map((index) => columns.dictionaries.author.domain[columns.author[index] as number])).size,
    Math.max(...rows.map((index) => columns.received[index] as number)),
  ]);
  database.close();
});

function mask(where: string, columns: Columns): Uint8Array {
  const parsed = parseCriteria(where);
  assert.ok(parsed.ok, where);
  return criteriaToMask(parsed.criteria, columns, CONTEXT);
}

test('a difference makes of the old columns the new ones', () => {
  const old = sampleColumns(600, 1);
  const next = sampleColumns(600, 2);
  fc.assert(
    fc.property(fc.func(fc.nat(3)), (fate) => {
      // 0: gone; 1: stays; 2: changed; 3: comes in.
      const before = part(old, (row) => fate(row) !== 3);
      const changed = part(next, (row) => fate(row) >= 2);
      const gone = [...old.id].filter((_, row) => fate(row) === 0);
      const after = [...old.id.keys()].flatMap((row) => {
        if (fate(row) === 0) return [];
        return [plain(fate(row) === 1 ? old : next)[row]];
      });
      assert.deepEqual(plain(applyDifference(before, changed, gone)), after);
    }),
    { numRuns: 10 },
  );
});

test('the order of rows and the largest of amounts are those of sorting', () => {
  const values = fc.array(fc.integer({ min: -(2 ** 40), max: 2 ** 41 }), { maxLength: 200 });
  fc.assert(
    fc.property(values, fc.boolean(), fc.integer({ min: 1, max: 20 }), (list, descending, most) => {
      const rows = list.map((_, row) => row);
      const sorted = rows.sort((a, b) => ((list[a] as number) - (list[b] as number)) * (descending ? -1 : 1) || a - b);
      assert.deepEqual([...orderBy(list, descending)], sorted);
      const positive = list.map((_, row) => row).filter((row) => (list[row] as number) > 0);
      positive.sort((a, b) => (list[b] as number) - (list[a] as number) || a - b);
      assert.deepEqual(largest(list, most), positive.slice(0, most));
    }),
  );
});

/** Every distribution, counted anew by masks: those of all dimensions but its own. */
function naive(columns: Columns, parts: Record<Dimension, Criteria>, linked: CrossFilter): Tallies {
  const masks = Object.fromEntries(
    DIMENSIONS.map((name) => [name, criteriaToMask(parts[name], columns, CONTEXT)]),
  ) as Record<Dimension, Uint8Array>;
  const month = monthColumn(columns.received, linked.months);
  const count = (length: number, ignored: Dimension[], codesOf: (row: number) => number[]) => {
    const tally = { messages: new Uint32Array(length), bytes: new Float64Array(length) };
    for (let row = 0; row < columns.length; row++) {
      if (DIMENSIONS.some((name) => !ignored.includes(name) && masks[name][row] === 0)) continue;
      for (const code of codesOf(row)) {
        tally.messages[code] = (tally.messages[code] as number) + 1;
        tally.bytes[code] = (tally.bytes[code] as number) + (columns.size[row] as number);
      }
    }
    return tally;
  };
  const author = (row: number) => columns.author[row] as number;
  const { author: authors, folder } = columns.dictionaries;
  const bin = (row: number) => sizeBin(columns.size[row] as number);
  const months = linked.months.length - 1;
  return {
    months: count(months, ['time'], (row) => [month[row] as number]),
    sizes: count(SIZE_BINS, ['size'], (row) => [bin(row)]),
    field: count(months * SIZE_BINS, ['size', 'time'], (row) => [(month[row] as number) * SIZE_BINS + bin(row)]),
    categories: count(CATEGORIES.length, ['category'], (row) => [columns.category[row] as number]),
    folders: count(folder.length, ['folder'], (row) => [columns.folder[row] as number]),
    kinds: count(FILE_KINDS.length + 1, ['files'], (row) => {
      const bits = columns.kinds[row] as number;
      return bits === 0 ? [FILE_KINDS.length] : FILE_KINDS.flatMap((_, kind) => ((bits >> kind) & 1 ? [kind] : []));
    }),
    flags: count(8, ['flags'], (row) =>
      [1, 4, 2, 16].map((bit, flag) => ((columns.flags[row] as number) & bit ? flag : flag + 4)),
    ),
    senders: count(linked.addresses.length, ['sender'], (row) => [
      linked.addresses.indexOf(authors.address[author(row)] as string),
    ]),
    domains: count(linked.domains.length, ['sender'], (row) => [
      linked.domains.indexOf(authors.domain[author(row)] as string),
    ]),
  };
}

const CONDITIONS = [
  'size > 20 kB',
  'size >= 5 kB and size < 1 MB',
  'size != 500 B',
  'received >= 2019-03-01 and received < 2022-01-01',
  'age > 3y',
  'received != 2020-01-01',
  'category = mailings',
  'category = letters or category = own',
  'folder = "Folder 0"',
  'kind = picture or kind = film',
  'files = 0',
  'not flagged',
  'unseen',
  'domain = house3.example',
  'from ~ post1',
  'date < 2020-01-01',
  'size > 1 MB or unseen',
];

test('linked narrowing gives after any moves what counting anew gives', () => {
  const columns = sampleColumns(800, 3);
  const months = monthsOf(columns.received, NOW, 'UTC');
  const moves = fc.array(fc.subarray(CONDITIONS, { maxLength: 5 }), { minLength: 1, maxLength: 8 });
  fc.assert(
    fc.property(moves, (steps) => {
      const linked = new CrossFilter(columns, months);
      for (const conditions of steps) {
        const parsed = parseCriteria(conditions.map((one) => `(${one})`).join(' and '));
        assert.ok(parsed.ok);
        const parts = byDimension(parsed.criteria);
        const changes = DIMENSIONS.map((dimension): Change => {
          const interval =
            dimension === 'size' || dimension === 'time' ? intervalOf(parts[dimension], CONTEXT) : undefined;
          if (interval) return { dimension: dimension as 'size' | 'time', interval };
          return { dimension, mask: criteriaToMask(parts[dimension], columns, CONTEXT) };
        });
        // One by one few rows move, all at once many do: both ways of counting are taken.
        if (conditions.length % 2 === 0) linked.change(changes);
        else for (const change of changes) linked.change([change]);
        const whole = criteriaToMask(parsed.criteria, columns, CONTEXT);
        const matching = [...columns.id.keys()].filter((row) => whole[row] === 1);
        assert.deepEqual(
          [...columns.id.keys()].filter((row) => linked.matches(row)),
          matching,
        );
        assert.deepEqual(linked.total, {
          messages: matching.length,
          bytes: matching.reduce((sum, row) => sum + (columns.size[row] as number), 0),
        });
        assert.deepEqual(linked.now, naive(columns, parts, linked));
      }
    }),
    { numRuns: 40 },
  );
});
