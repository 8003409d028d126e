import type { Columns } from '../columns/columns';
import { type Grouping, type GroupingKind, groupCriteria, groupRows } from '../senders/grouping';

/** A sender that is to be left out of what is proposed. */
export interface LeftOut {
  by: Exclude<GroupingKind, 'recipient'>;
  key: string;
}

/** The senders that dismissed suggestions were about: whoever was dismissed once is not proposed in part either. */
export function dismissedSenders(keys: Iterable<string>): LeftOut[] {
  const found: LeftOut[] = [];
  for (const key of keys) {
    const match = /^(address|domain|list):(.*?)(?::\d+y)?$/s.exec(key);
    if (match) found.push({ by: match[1] as LeftOut['by'], key: match[2] as string });
  }
  return found;
}

/**
 * The rows of senders that are left out, each group apart, with the criteria that say it.
 *
 * @param groupings known already, by their kind.
 */
export function rowsLeftOut(
  columns: Columns,
  leftOut: readonly LeftOut[],
  groupings: Partial<Record<GroupingKind, Grouping>>,
): { where: string; rows: Uint32Array }[] {
  const found: { where: string; rows: number[] }[] = [];
  for (const by of ['address', 'domain', 'list'] as const) {
    const wanted = new Map<string, number[]>();
    for (const one of leftOut) if (one.by === by) wanted.set(one.key, []);
    if (wanted.size === 0) continue;
    const { keys, starts, members } = groupings[by] ?? groupRows(columns, by);
    const rowsOf = keys.map((key) => wanted.get(key));
    for (let row = 0; row < columns.length; row++)
      for (let at = starts[row] as number; at < (starts[row + 1] as number); at++)
        rowsOf[members[at] as number]?.push(row);
    for (const [key, rows] of wanted) if (rows.length > 0) found.push({ where: groupCriteria(by, key, []), rows });
  }
  return found.map(({ where, rows }) => ({ where, rows: Uint32Array.from(rows) }));
}
