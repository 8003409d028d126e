import { BULK, categoryNumber } from '../categories/categories';
import type { Columns } from '../columns/columns';
import { instantOfAge } from '../criteria/instants';
import { printText } from '../criteria/print';
import type { People } from '../evidence/rows';
import { type Grouping, type GroupingKind, groupRows } from '../senders/grouping';
import { OCTETS_IN } from '../units';

/** What could be taken in one decision. */
export interface Candidate {
  /** The same for the same decision at any time. */
  key: string;
  kind: 'folder' | 'category' | 'huge' | 'address' | 'domain' | 'list';
  /** The path, category, size, address, domain or list. */
  subject: string;
  /** Years before which only; 0 is all. */
  years: number;
  where: string;
  rows: Uint32Array;
}

/** Years that old mail is older than. */
const OLD = [1, 2, 4] as const;
/** MiB from which on a message is huge: a dozen of them already makes a difference (common practice, no source). */
const HUGE_MIB = [25, 10, 5] as const;
/** A sender of more letters than this share is somebody, and goes by the address alone. */
const MOST_LETTERS = 0.2;
/** One with more mail of the user's own than this share is the user, or the user's house. */
const MOST_OWN = 0.01;

/**
 * Every decision that could be proposed: folders that cost none, bulk of an age, huge messages, and single senders, lists
 * and domains, whole or of an age.
 *
 * @param eligible one octet a row, 0 where it may not be proposed.
 * @param free paths of folders that cost no decision, with all below them.
 */
export function candidatesOf(
  columns: Columns,
  eligible: Uint8Array,
  { authors }: People,
  context: { now: Date; timeZone: string; free: readonly string[] },
): Candidate[] {
  const before = new Map<number, number>(
    OLD.map((years) => [years, instantOfAge(years, 'y', context.now, context.timeZone).getTime() / 1000]),
  );
  const candidates: Candidate[] = [];
  const propose = (kind: Candidate['kind'], subject: string, test: string, years: number, rows: Uint32Array) => {
    if (rows.length === 0) return;
    const where = years === 0 ? test : `${test} and age > ${years}y`;
    candidates.push({ key: `${kind}:${subject}${years === 0 ? '' : `:${years}y`}`, kind, subject, years, where, rows });
  };
  const older = (rows: Uint32Array, years: number) => {
    const instant = before.get(years) as number;
    return rows.filter((row) => (columns.received[row] as number) < instant);
  };

  for (const path of context.free) {
    const inside = columns.dictionaries.folder.map((one) => one === path || one.startsWith(`${path}/`));
    const rows = rowsWhere(columns, eligible, (row) => inside[columns.folder[row] as number] as boolean);
    propose('folder', path, `under = ${printText(path)}`, 0, rows);
  }
  for (const category of BULK) {
    const number = categoryNumber(category);
    const rows = rowsWhere(columns, eligible, (row) => columns.category[row] === number);
    for (const years of OLD) propose('category', category, `category = ${category}`, years, older(rows, years));
  }
  for (const size of HUGE_MIB) {
    const least = size * OCTETS_IN.MiB;
    const rows = rowsWhere(columns, eligible, (row) => (columns.size[row] as number) >= least);
    for (const years of [0, ...OLD])
      propose('huge', `${size} MiB`, `size >= ${size} MiB`, years, years === 0 ? rows : older(rows, years));
  }
  const [letters, own] = [categoryNumber('letters'), categoryNumber('own')];
  for (const by of ['address', 'domain', 'list'] as const) {
    const grouping = by === 'address' ? authors.grouping : groupRows(columns, by);
    for (const [group, rows] of rowsByGroup(grouping, eligible).entries()) {
      const key = grouping.keys[group] as string;
      if (key === '' || rows.length === 0) continue;
      // The user is no sender to decide on, nor is a domain of people; a domain of one address is that address.
      if (share(columns, rows, own) > MOST_OWN) continue;
      if (by === 'domain' && (sameAddress(columns, rows) || share(columns, rows, letters) > MOST_LETTERS)) continue;
      const test = `${FIELD[by]} = ${printText(key)}`;
      propose(by, key, test, 0, rows);
      for (const years of OLD) {
        const some = older(rows, years);
        if (some.length < rows.length) propose(by, key, test, years, some);
      }
    }
  }
  return candidates;
}

/** The field of criteria that names a group. */
const FIELD = { address: 'from', domain: 'domain', list: 'list' } as const satisfies Partial<
  Record<GroupingKind, string>
>;

function rowsWhere(columns: Columns, eligible: Uint8Array, holds: (row: number) => boolean): Uint32Array {
  const rows: number[] = [];
  for (let row = 0; row < columns.length; row++) if (eligible[row] === 1 && holds(row)) rows.push(row);
  return Uint32Array.from(rows);
}

/** The rows of each group, by its number: counted, then placed. */
function rowsByGroup({ keys, starts, members }: Grouping, eligible: Uint8Array): Uint32Array[] {
  const counts = new Uint32Array(keys.length + 1);
  const each = (visit: (group: number, row: number) => void) => {
    for (let row = 0; row < eligible.length; row++) {
      if (eligible[row] === 0) continue;
      for (let at = starts[row] as number; at < (starts[row + 1] as number); at++) visit(members[at] as number, row);
    }
  };
  each((group) => {
    counts[group + 1] = (counts[group + 1] as number) + 1;
  });
  for (let group = 0; group < keys.length; group++)
    counts[group + 1] = (counts[group + 1] as number) + (counts[group] as number);
  const places = counts.slice();
  const rows = new Uint32Array(counts[keys.length] as number);
  each((group, row) => {
    const place = places[group] as number;
    rows[place] = row;
    places[group] = place + 1;
  });
  return keys.map((_, group) => rows.subarray(counts[group], counts[group + 1]));
}

function sameAddress({ author, dictionaries }: Columns, rows: Uint32Array): boolean {
  const first = dictionaries.author.address[author[rows[0] as number] as number];
  return rows.every((row) => dictionaries.author.address[author[row] as number] === first);
}

function share({ category }: Columns, rows: Uint32Array, wanted: number): number {
  let count = 0;
  for (const row of rows) if (category[row] === wanted) count++;
  return count / rows.length;
}
