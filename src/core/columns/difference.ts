import {
  buildColumns,
  type Columns,
  NUMBER_COLUMNS,
  type NumberColumn,
  type RawColumns,
  TEXT_COLUMNS,
  type TextColumn,
} from './columns';

/**
 * Applies a difference: rows whose id is known replace the old ones, new ids come in, gone ids leave.
 *
 * @param gone ids that are in the index no more, in any order.
 */
export function applyDifference(columns: Columns, changed: Columns, gone: Iterable<number>): Columns {
  const out = new Set(gone);
  for (const id of changed.id) out.add(id);
  // Row numbers; those of `changed` are told by the second list.
  const kept: number[] = [];
  for (let row = 0; row < columns.length; row++) if (!out.has(columns.id[row] as number)) kept.push(row);
  const picks: { source: Columns; row: number }[] = [];
  let next = 0;
  for (const row of kept) {
    for (; next < changed.length && (changed.id[next] as number) < (columns.id[row] as number); next++)
      picks.push({ source: changed, row: next });
    picks.push({ source: columns, row });
  }
  for (; next < changed.length; next++) picks.push({ source: changed, row: next });
  return buildColumns(rawOf(picks));
}

function rawOf(picks: readonly { source: Columns; row: number }[]): RawColumns {
  const author = (of: 'name' | 'address') =>
    picks.map(({ source, row }) => source.dictionaries.author[of][source.author[row] as number] as string);
  return {
    numbers: Object.fromEntries(
      NUMBER_COLUMNS.map((name) => [name, picks.map(({ source, row }) => source[name][row] as number)]),
    ) as Record<NumberColumn, number[]>,
    authorName: author('name'),
    authorAddress: author('address'),
    texts: Object.fromEntries(
      TEXT_COLUMNS.map((name) => [
        name,
        picks.map(({ source, row }) => source.dictionaries[name][source[name][row] as number] as string),
      ]),
    ) as Record<TextColumn, string[]>,
  };
}
