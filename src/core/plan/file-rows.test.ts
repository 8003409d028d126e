import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { expectedGainOfFile, SHRUNK_LENGTHS } from '../files/shrinking';
import { emptyBits, setBit } from './bits';
import { FileRows, type LotOfFiles } from './file-rows';
import { lotSet, planFigures } from './plan';

const lot = fc.record({
  members: fc.array(fc.boolean(), { minLength: 12, maxLength: 12 }),
  longest: fc.option(fc.constantFrom(...SHRUNK_LENGTHS)),
});

test('what lots of files win together is what each file loses: all where one lets it go, else the most that one makes it smaller', () => {
  fc.assert(
    fc.property(
      fc.array(fc.nat(4_000_000), { minLength: 12, maxLength: 12 }),
      fc.array(lot, { minLength: 1, maxLength: 5 }),
      (octets, made) => {
        const lots = made.map(({ members, longest }): LotOfFiles => {
          const files = emptyBits(members.length);
          for (const [row, isIn] of members.entries()) if (isIn) setBit(files, row);
          return { files, shrinking: longest && { longest, place: 'keep' } };
        });
        const rows = new FileRows(Float64Array.from(octets), lots);
        const { total, lots: figures } = planFigures(
          lots.map((one) => lotSet(rows.rowsOf(one), rows.sizes, rows.count)),
          rows.sizes,
          rows.count,
        );
        const lostOf = (row: number) =>
          Math.max(
            0,
            ...made
              .filter(({ members }) => members[row])
              .map(({ longest }) =>
                longest ? expectedGainOfFile(octets[row] as number, longest) : (octets[row] as number),
              ),
          );
        const touched = octets.map((_, row) => row).filter((row) => made.some(({ members }) => members[row]));
        assert.deepEqual(total, {
          messages: touched.length,
          bytes: touched.reduce((sum, row) => sum + lostOf(row), 0),
        });
        const won = rows.won(lots);
        for (const row of touched) assert.equal(won[row], lostOf(row));
        for (const [at, { members }] of made.entries())
          assert.equal(figures[at]?.own.messages, members.filter(Boolean).length, 'each file counts once');
      },
    ),
  );
});
