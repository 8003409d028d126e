import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { sampleColumns, sampleFiles } from '../../../test/column-samples';
import { rowOfId } from '../columns/columns';
import { columnsOfFiles } from '../columns/file-columns';
import { criteriaToMask } from '../columns/mask';
import { parseCriteria } from '../criteria/parse';
import { NOTE_OCTETS } from '../mime/note';
import { peopleOf } from '../senders/people';
import { rangesOf } from '../sets/ranges';
import { type Bits, bitsOfRanges, eachBit, emptyBits, hasBit, setBit } from './bits';
import { greedyCover } from './coverage';
import { takableFiles } from './file-candidates';
import { lotSet, planFigures } from './plan';
import { LITTLE, MUCH, suggest } from './suggestions';

const ROWS = 150;
const subsets = (most: number) =>
  fc.array(fc.uniqueArray(fc.nat(ROWS - 1), { maxLength: 90 }), { minLength: 1, maxLength: most });
const sizesOf = fc.array(fc.nat(5_000_000), { minLength: ROWS, maxLength: ROWS });

const bitsOf = (rows: Iterable<number>): Bits => {
  const bits = emptyBits(ROWS);
  for (const row of rows) setBit(bits, row);
  return bits;
};

test('sets of ids become the rows that bear them, whatever ids are missing', () => {
  fc.assert(
    fc.property(fc.uniqueArray(fc.nat(400), { minLength: 1 }), fc.uniqueArray(fc.nat(400)), (some, wanted) => {
      const ids = some.sort((a, b) => a - b);
      const rows: number[] = [];
      eachBit(bitsOfRanges(rangesOf(wanted), ids), (row) => rows.push(row));
      assert.deepEqual(
        rows.map((row) => ids[row]),
        ids.filter((id) => wanted.includes(id)),
      );
    }),
  );
});

test('what lots hold, add and hold alone is what sets say, however they overlap', () => {
  fc.assert(
    fc.property(subsets(12), sizesOf, (lots, sizes) => {
      const amount = (rows: Iterable<number>) => {
        const all = [...new Set(rows)];
        return { messages: all.length, bytes: all.reduce((sum, row) => sum + (sizes[row] as number), 0) };
      };
      const octets = Float64Array.from(sizes);
      const sets = lots.map((rows) => lotSet(bitsOf(rows), octets));
      const figures = planFigures(sets, octets);
      assert.deepEqual(figures.total, amount(lots.flat()));
      for (const [index, lot] of lots.entries()) {
        const before = new Set(lots.slice(0, index).flat());
        const others = new Set(lots.filter((_, other) => other !== index).flat());
        assert.deepEqual(figures.lots[index], {
          own: amount(lot),
          adds: amount(lot.filter((row) => !before.has(row))),
          only: amount(lot.filter((row) => !others.has(row))),
        });
      }
    }),
  );
});

test('the lazy greedy cover takes what the eager one takes', () => {
  fc.assert(
    fc.property(subsets(12), sizesOf, (sets, sizes) => {
      const covered = new Set<number>();
      const eager: number[] = [];
      for (;;) {
        const gains = sets.map((rows) =>
          rows.reduce((sum, row) => sum + (covered.has(row) ? 0 : (sizes[row] as number)), 0),
        );
        const best = gains.indexOf(Math.max(...gains));
        if ((gains[best] as number) <= 0) break;
        eager.push(best);
        for (const row of sets[best] as number[]) covered.add(row);
      }
      const lazy = greedyCover(
        sets.map((rows) => Uint32Array.from(rows)),
        Float64Array.from(sizes),
        emptyBits(ROWS),
      );
      assert.deepEqual(
        Array.from(lazy, ({ set }) => set),
        eager,
      );
    }),
  );
});

test('k greedy choices win at least 1 − (1 − 1/k)^k of the best k (Nemhauser, Wolsey and Fisher 1978), by exhaustive search', () => {
  fc.assert(
    fc.property(subsets(9), sizesOf, fc.integer({ min: 1, max: 4 }), (sets, sizes, k) => {
      const weight = (rows: Iterable<number>) =>
        [...new Set(rows)].reduce((sum, row) => sum + (sizes[row] as number), 0);
      let best = 0;
      for (let choice = 0; choice < 2 ** sets.length; choice++) {
        const chosen = sets.filter((_, index) => (choice >> index) & 1);
        if (chosen.length <= k) best = Math.max(best, weight(chosen.flat()));
      }
      let won = 0;
      let taken = 0;
      for (const { gain } of greedyCover(
        sets.map((rows) => Uint32Array.from(rows)),
        Float64Array.from(sizes),
        emptyBits(ROWS),
      )) {
        won += gain;
        if (++taken === k) break;
      }
      assert.ok(won >= (1 - (1 - 1 / k) ** k) * best - 1e-6, `${won} of ${best} by ${k}`);
    }),
  );
});

test('suggestions add what their criteria say, hold nothing that is out or dismissed, reach the target and say where to stop', () => {
  const now = new Date('2026-11-24T12:00:00Z');
  const context = { now, timeZone: 'UTC', free: ['Folder 3'] };
  fc.assert(
    fc.property(
      fc.nat(1_000),
      fc.nat(60_000_000),
      fc.constantFrom('bytes', 'messages'),
      fc.array(fc.nat(30), { maxLength: 4 }),
      (seed, bytes, unit, refusals) => {
        const columns = sampleColumns(700, seed, 25);
        const scope = Uint8Array.from(columns.folder, (code) => (code === 1 ? 0 : 1));
        const out = emptyBits(columns.length);
        for (let row = 0; row < columns.length; row++) if ((row * 7 + seed) % 5 === 0) setBit(out, row);
        const people = peopleOf(columns, scope, now.getTime() / 1000);
        const missing = unit === 'bytes' ? { bytes } : { messages: bytes % 700 };
        const ask = (dismissed: string[]) =>
          suggest(columns, scope, out, people, { ...context, missing, dismissed, leftOut: [] });
        const dismissed = refusals.flatMap((place) => ask([]).suggestions[place]?.key ?? []);
        const { suggestions, reach, stop } = ask(dismissed);
        const taken = out.slice();
        let won = 0;
        for (const [index, { where, adds, key, evidence, most }] of suggestions.entries()) {
          assert.ok(!dismissed.includes(key));
          const parsed = parseCriteria(where);
          assert.ok(parsed.ok, where);
          const mask = criteriaToMask(parsed.criteria, columns, { now, timeZone: 'UTC', outside: new Map() });
          const found = { messages: 0, bytes: 0 };
          for (let row = 0; row < columns.length; row++) {
            if (mask[row] === 0 || scope[row] === 0 || hasBit(taken, row)) continue;
            setBit(taken, row);
            found.messages++;
            found.bytes += columns.size[row] as number;
          }
          assert.deepEqual(found, adds, where);
          assert.ok(adds.messages > 0 && evidence <= most + 1);
          const before = won;
          won += unit === 'bytes' ? adds.bytes : adds.messages;
          const need = 'bytes' in missing ? missing.bytes : (missing.messages as number);
          if (reach === index + 1) assert.ok(won >= need && before < need);
          const gain = unit === 'bytes' ? adds.bytes : adds.messages;
          if (index >= stop.after) assert.ok(gain < LITTLE * need || evidence >= MUCH);
        }
        const need = 'bytes' in missing ? missing.bytes : (missing.messages as number);
        if (reach === null) assert.ok(won < need);
      },
    ),
    { numRuns: 60 },
  );
});

test('files are proposed before letters where they win as much; each decision takes what its criteria say, and no file twice', () => {
  const now = new Date('2026-11-24T12:00:00Z');
  fc.assert(
    fc.property(fc.nat(1_000), fc.nat(60_000_000), (seed, bytes) => {
      const columns = sampleColumns(700, seed, 25);
      const files = sampleFiles(columns, seed);
      const scope = Uint8Array.from(columns.folder, (code) => (code === 1 ? 0 : 1));
      const mayLose = (row: number) => scope[row] === 1 && row % 5 !== 0;
      const people = peopleOf(columns, scope, now.getTime() / 1000);
      const context = { now, timeZone: 'UTC', free: [], dismissed: [], leftOut: [], missing: { bytes } };
      const takable = takableFiles(files, columns, mayLose);
      const { suggestions } = suggest(columns, scope, emptyBits(columns.length), people, {
        ...context,
        files: takable,
      });
      const { columns: rows, place } = columnsOfFiles(files, columns);
      const gone = new Set<number>();
      for (const suggestion of suggestions) {
        const parsed = parseCriteria(suggestion.where);
        assert.ok(parsed.ok, suggestion.where);
        const over = suggestion.fate === 'strip' ? rows : columns;
        const mask = criteriaToMask(parsed.criteria, over, { now, timeZone: 'UTC', outside: new Map() });
        const messages = new Set<number>();
        let won = 0;
        for (let row = 0; row < over.length; row++) {
          if (mask[row] === 0) continue;
          const message =
            suggestion.fate === 'strip' ? rowOfId(columns, files.placement[place[row] as number] as number) : row;
          if (scope[message] === 0 || gone.has(message)) continue;
          if (suggestion.fate === 'strip' && !mayLose(message)) continue;
          messages.add(message);
          won +=
            suggestion.fate === 'strip'
              ? Math.max(0, (over.size[row] as number) - NOTE_OCTETS)
              : (over.size[row] as number);
        }
        assert.deepEqual({ messages: messages.size, bytes: won }, suggestion.adds, suggestion.where);
        for (const message of messages) gone.add(message);
      }
      const without = suggest(columns, scope, emptyBits(columns.length), people, context).suggestions;
      const [first, most] = [suggestions[0], without[0]];
      const isEnough = suggestions.some(({ fate, adds }) => fate === 'strip' && adds.bytes >= bytes);
      if (isEnough && bytes > 0) assert.equal(first?.fate, 'strip', 'no letter is asked for where files are enough');
      if (first?.fate === 'trash' && most)
        assert.ok(first.adds.bytes >= most.adds.bytes * 0.5, 'a letter goes only where that wins more');
    }),
    { numRuns: 40 },
  );
});
