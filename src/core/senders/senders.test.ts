import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { sampleColumns } from '../../../test/column-samples';
import { CATEGORIES } from '../categories/categories';
import { criteriaToMask } from '../columns/mask';
import { parseCriteria } from '../criteria/parse';
import { FLAG_BITS } from '../mailbox/flags';
import { escapeFormula } from '../sheets/cells';
import { GROUPINGS, groupCriteria, groupRows, postingAddress, recipientsIn } from './grouping';
import { bytesAMonth, figuresOf, GROUP_ORDERS, knowledgeOf, rankGroups } from './ranking';
import { readSheet, SHEET_COLUMNS, type SheetRow, writeSheet } from './sheet';
import { parseVerdict, printVerdict, takenBy, type Verdict } from './verdict';

test('every ranking is what adding up message by message gives, and its criteria mean the same messages', () => {
  const columns = sampleColumns(1_500, 5, 60);
  const scope = Uint8Array.from(columns.folder, (code) => (code === 2 ? 0 : 1));
  const mask = Uint8Array.from(columns.size, (size, row) => (size > 9_000 && scope[row] === 1 ? 1 : 0));
  const { author, list, recipients, folder } = columns.dictionaries;
  const keysOf = {
    address: (row: number) => [author.address[columns.author[row] as number] as string],
    domain: (row: number) => [author.domain[columns.author[row] as number] as string],
    list: (row: number) => [list[columns.list[row] as number] as string].filter(Boolean),
    recipient: (row: number) =>
      recipientsIn(recipients[columns.recipients[row] as number] as string).map(({ address }) => address),
  };
  for (const by of GROUPINGS) {
    const groups = new Map<string, number[]>();
    for (let row = 0; row < columns.length; row++)
      if (mask[row] === 1) for (const key of keysOf[by](row)) groups.set(key, [...(groups.get(key) ?? []), row]);
    const knowledge = knowledgeOf(columns, groupRows(columns, by), scope, 1_790_000_000);
    const figures = figuresOf(columns, knowledge.grouping, mask);
    const { keys } = knowledge.grouping;
    for (const order of GROUP_ORDERS) {
      const ranked = rankGroups(figures, knowledge, order, true);
      assert.deepEqual(new Set(Array.from(ranked, (group) => keys[group])), new Set(groups.keys()), by);
      const values = Array.from(ranked, (group) => {
        const rows = groups.get(keys[group] as string) as number[];
        const bytes = rows.reduce((sum, row) => sum + (columns.size[row] as number), 0);
        const dates = rows.map((row) => columns.date[row] as number);
        const [first, last] = [Math.min(...dates), Math.max(...dates)];
        assert.deepEqual(
          [
            figures.messages[group],
            figures.bytes[group],
            figures.first[group],
            figures.last[group],
            figures.unseen[group],
            figures.categories[group * CATEGORIES.length],
          ],
          [
            rows.length,
            bytes,
            first,
            last,
            rows.filter((row) => ((columns.flags[row] as number) & FLAG_BITS.seen) === 0).length,
            rows.filter((row) => columns.category[row] === 0).length,
          ],
          keys[group],
        );
        if (order === 'evidence') return knowledge.evidence[group] as number;
        if (order === 'month') return bytesAMonth({ bytes, first, last });
        return { bytes, messages: rows.length, last }[order];
      });
      for (let place = 1; place < values.length; place++)
        assert.ok((values[place - 1] as number) >= (values[place] as number) - 1, `${by} by ${order}`);
    }
    const chief = keys[rankGroups(figures, knowledge, 'bytes', true)[0] as number] as string;
    const parsed = parseCriteria(groupCriteria(by, chief, [...folder]));
    assert.ok(parsed.ok);
    if (by === 'recipient') continue;
    const meant = criteriaToMask(parsed.criteria, columns, { now: new Date(), timeZone: 'UTC', outside: new Map() });
    assert.deepEqual(
      groups.get(chief),
      [...mask.keys()].filter((row) => mask[row] === 1 && meant[row] === 1),
    );
  }
  assert.equal(postingAddress('bees.lists.example'), 'bees@lists.example');
});

const verdicts: fc.Arbitrary<Verdict> = fc.oneof(
  fc.constantFrom<Verdict>({ kind: 'keep' }, { kind: 'trash' }, { kind: 'later' }),
  fc
    .tuple(fc.integer({ min: 1, max: 9_999 }), fc.constantFrom('d' as const, 'w' as const, 'mo' as const, 'y' as const))
    .map(([number, unit]): Verdict => ({ kind: 'older', number, unit })),
  fc.integer({ min: 1, max: 99_999 }).map((count): Verdict => ({ kind: 'newest', count })),
);

test('a verdict that is printed is read again; near misses are none', () => {
  fc.assert(fc.property(verdicts, (verdict) => assert.deepEqual(parseVerdict(printVerdict(verdict)), verdict)));
  assert.deepEqual(parseVerdict('  TRASH   older than 18MO '), { kind: 'older', number: 18, unit: 'mo' });
  for (const wrong of ['', 'bin', 'trash older', 'trash older than 0d', 'trash all but the newest 0', 'keep it'])
    assert.equal(parseVerdict(wrong), undefined, wrong);
  const messages = [1, 2, 3, 4].map((id) => ({ id, received: id * 10, date: 100 - (id === 3 ? 3 : id) * 10 }));
  assert.deepEqual(takenBy({ kind: 'older', number: 1, unit: 'd' }, messages, 25).members, [1, 2]);
  assert.deepEqual(takenBy({ kind: 'newest', count: 2 }, messages, 0), { members: [1, 2, 3, 4], except: [1, 2] });
  assert.deepEqual(takenBy({ kind: 'keep' }, messages, 0).members, []);
});

const row = (changes: Partial<SheetRow>): SheetRow => ({
  ...(Object.fromEntries(SHEET_COLUMNS.map((column) => [column, ''])) as SheetRow),
  by: 'address',
  ...changes,
});

test('any key survives the way out and back, and no cell is left that a spreadsheet would run', () => {
  const key = fc.string({ unit: fc.constantFrom('=', '+', '-', '@', "'", '"', ',', ';', 'a', '\u202e', '＝') });
  fc.assert(
    fc.property(fc.uniqueArray(key, { minLength: 1, maxLength: 5 }), verdicts, (keys, verdict) => {
      const rows = keys
        .filter((one) => one.trim() === one)
        .map((one) => row({ key: one, decision: printVerdict(verdict) }));
      const { decisions, issues } = readSheet(writeSheet(rows));
      assert.deepEqual(issues, []);
      assert.deepEqual(
        decisions.map((one) => one.key),
        rows.map((one) => one.key),
      );
      for (const one of keys) assert.doesNotMatch(escapeFormula(one), /^[=+\-@\t\r＝＋－＠]/);
    }),
  );
});

test('a sheet that came back is read by its heads, whatever parts its cells; what is wrong is told by its line', () => {
  const sheet =
    'Decision;note;key;by\r\nkeep;"two\nlines";a@x.example;address\r\n;;b@x.example;address\r\nburn;;c@x.example;address\r\n' +
    'trash;;a@x.example;address\r\ntrash;;d@x.example;person\r\n"trash older than 2y";;e@x.example;Address\r\n';
  const { decisions, issues } = readSheet(sheet);
  assert.deepEqual(
    decisions.map(({ line, key, verdict }) => [line, key, printVerdict(verdict)]),
    [
      [2, 'a@x.example', 'keep'],
      [8, 'e@x.example', 'trash older than 2y'],
    ],
  );
  assert.deepEqual(
    issues.map(({ line, note, cell }) => [line, note, cell]),
    [
      [5, 'unknown-decision', 'burn'],
      [6, 'twice', 'a@x.example'],
      [7, 'unknown-grouping', 'person'],
    ],
  );
  assert.equal(readSheet('a,b\r\n1,2\r\n').issues[0]?.note, 'not-a-sheet');
  assert.equal(readSheet('by,key,decision\r\naddress,"unclosed,keep\r\n').issues[0]?.note, 'unreadable');
});
