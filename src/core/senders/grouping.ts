import type { Columns } from '../columns/columns';
import { printText } from '../criteria/print';
import { fold } from '../text';

/** By what messages are taken together: their author, its registrable domain, their list, or whom they went to. */
export const GROUPINGS = ['address', 'domain', 'list', 'recipient'] as const;
export type GroupingKind = (typeof GROUPINGS)[number];

/**
 * Rows taken together. A row is in the groups `members[starts[row]]` up to `members[starts[row + 1]]`: one at most, but
 * for recipients, of whom a message may have many.
 */
export interface Grouping {
  readonly by: GroupingKind;
  /** Folded; the address, the domain, or the identifier of the list. */
  readonly keys: readonly string[];
  readonly starts: Uint32Array;
  readonly members: Uint32Array;
}

/**
 * Groups all rows of the columns.
 *
 * Messages without an author are one group by themselves, of the key ''; without a list, or outside Sent, they are in
 * none.
 */
export function groupRows(columns: Columns, by: GroupingKind): Grouping {
  const { dictionaries } = columns;
  switch (by) {
    case 'address':
      return single(columns, by, columns.author, dictionaries.author.address.map(fold), true);
    case 'domain':
      return single(columns, by, columns.author, dictionaries.author.domain, true);
    case 'list':
      return single(columns, by, columns.list, dictionaries.list.map(fold), false);
    case 'recipient':
      return multiple(columns, dictionaries.recipients.map(recipientsIn));
  }
}

/** Codes of a dictionary become codes of the distinct keys. */
function single(
  columns: Columns,
  by: GroupingKind,
  codes: Uint32Array,
  keyOfCode: readonly string[],
  withNone: boolean,
): Grouping {
  const { keys, codeOf } = distinct(keyOfCode.map((key) => (key === '' && !withNone ? [] : [key])));
  return spread(columns.length, by, keys, codes, codeOf);
}

function multiple(columns: Columns, recipients: readonly Recipient[][]): Grouping {
  const { keys, codeOf } = distinct(recipients.map((to) => to.map(({ address }) => fold(address))));
  return spread(columns.length, 'recipient', keys, columns.recipients, codeOf);
}

function distinct(keysOfCode: readonly (readonly string[])[]): { keys: string[]; codeOf: number[][] } {
  const known = new Map<string, number>();
  const codeOf = keysOfCode.map((keys) =>
    [...new Set(keys)].map((key) => {
      let code = known.get(key);
      if (code === undefined) {
        code = known.size;
        known.set(key, code);
      }
      return code;
    }),
  );
  return { keys: [...known.keys()], codeOf };
}

function spread(
  length: number,
  by: GroupingKind,
  keys: string[],
  codes: Uint32Array,
  groupsOf: readonly (readonly number[])[],
): Grouping {
  const starts = new Uint32Array(length + 1);
  for (let row = 0; row < length; row++)
    starts[row + 1] = (starts[row] as number) + (groupsOf[codes[row] as number] as readonly number[]).length;
  const members = new Uint32Array(starts[length] as number);
  let at = 0;
  for (let row = 0; row < length; row++)
    for (const group of groupsOf[codes[row] as number] as readonly number[]) members[at++] = group;
  return { by, keys, starts, members };
}

export interface Recipient {
  name: string;
  address: string;
  domain: string;
}

/** Reads an entry of the dictionary of recipients. */
export function recipientsIn(entry: string): Recipient[] {
  return entry === '' ? [] : (JSON.parse(entry) as Recipient[]).filter(({ address }) => address !== '');
}

/** The address to which one writes to a list: the identifier with its first dot as an at (common practice, no source). */
export function postingAddress(list: string): string {
  return list.replace('.', '@');
}

/** How often the user wrote to each group, by key: messages in Sent, each once. */
export function writtenTo(columns: Columns, by: GroupingKind): ReadonlyMap<string, number> {
  const keysOf = columns.dictionaries.recipients.map((entry) => {
    const to = recipientsIn(entry);
    return new Set(to.map(({ address, domain }) => fold(by === 'domain' ? domain : address)));
  });
  const counts = new Uint32Array(keysOf.length);
  for (let row = 0; row < columns.length; row++) {
    const code = columns.recipients[row] as number;
    counts[code] = (counts[code] as number) + 1;
  }
  const written = new Map<string, number>();
  for (const [code, keys] of keysOf.entries())
    for (const key of keys) written.set(key, (written.get(key) ?? 0) + (counts[code] as number));
  return written;
}

/**
 * Criteria that mean a group.
 *
 * @param sent paths of the folders that hold what the user sent.
 */
export function groupCriteria(by: GroupingKind, key: string, sent: readonly string[]): string {
  const value = printText(key);
  if (by === 'recipient') {
    const folders = sent.map((path) => `folder = ${printText(path)}`).join(' or ');
    return sent.length > 1 ? `to = ${value} and (${folders})` : `to = ${value} and ${folders}`;
  }
  return `${by === 'address' ? 'from' : by} = ${value}`;
}
