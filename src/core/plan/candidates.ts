import { BULK, CATEGORIES, categoryNumber } from '../categories/categories';
import type { Columns } from '../columns/columns';
import { orderBy } from '../columns/order';
import { instantOfAge } from '../criteria/instants';
import { printText } from '../criteria/print';
import { type Grouping, type GroupingKind, groupRows } from '../senders/grouping';
import type { People } from '../senders/people';
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
const HUGE_MIB = [5, 10, 25] as const;
/** A sender of more letters than this share is somebody, and goes by the address alone. */
const MAX_LETTERS_SHARE = 0.2;
/** One with more mail of the user's own than this share is the user, or the user's house. */
const MAX_OWN_SHARE = 0.01;

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
  // Rows stand in the order of their receipt, so what is older is where a list begins.
  const byTime = eligibleByTime(columns, eligible);
  const older = (rows: Uint32Array, years: number) =>
    rows.subarray(0, countBefore(rows, columns.received, before.get(years) as number));

  for (const path of context.free) {
    const inside = columns.dictionaries.folder.map((one) => one === path || one.startsWith(`${path}/`));
    propose('folder', path, `under = ${printText(path)}`, 0, rowsOf(byTime, columns.folder, inside));
  }
  for (const category of BULK) {
    const wanted = CATEGORIES.map((one) => one === category);
    const rows = rowsOf(byTime, columns.category, wanted);
    for (const years of OLD) propose('category', category, `category = ${category}`, years, older(rows, years));
  }
  // From the smallest size on, so that few are looked at for the larger ones.
  let huge = byTime;
  for (const size of HUGE_MIB) {
    huge = atLeast(huge, columns.size, size * OCTETS_IN.MiB);
    for (const years of [0, ...OLD])
      propose('huge', `${size} MiB`, `size >= ${size} MiB`, years, years === 0 ? huge : older(huge, years));
  }
  const [letters, own] = [categoryNumber('letters'), categoryNumber('own')];
  for (const by of ['address', 'domain', 'list'] as const) {
    const grouping = by === 'address' ? authors.grouping : groupRows(columns, by);
    for (const [group, rows] of rowsByGroup(grouping, byTime).entries()) {
      const key = grouping.keys[group] as string;
      if (key === '' || rows.length === 0) continue;
      // The user is no sender to decide on, nor is a domain of people; a domain of one address is that address.
      if (share(columns, rows, own) > MAX_OWN_SHARE) continue;
      if (by === 'domain' && (sameAddress(columns, rows) || share(columns, rows, letters) > MAX_LETTERS_SHARE))
        continue;
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

/** The eligible rows in the order of their receipt. */
function eligibleByTime(columns: Columns, eligible: Uint8Array): Uint32Array {
  const order = orderBy(columns.received);
  let count = 0;
  for (let place = 0; place < order.length; place++) {
    const row = order[place] as number;
    if (eligible[row] === 1) order[count++] = row;
  }
  return order.subarray(0, count);
}

/** Those of rows whose code is wanted. */
function rowsOf(rows: Uint32Array, codes: Uint8Array | Uint32Array, wanted: readonly boolean[]): Uint32Array {
  const table = Uint8Array.from(wanted, Number);
  const found = new Uint32Array(rows.length);
  let count = 0;
  for (let place = 0; place < rows.length; place++) {
    const row = rows[place] as number;
    if (table[codes[row] as number] === 1) found[count++] = row;
  }
  return found.slice(0, count);
}

/** Those of rows that have at least so many octets. */
function atLeast(rows: Uint32Array, sizes: Float64Array, least: number): Uint32Array {
  return rows.filter((row) => (sizes[row] as number) >= least);
}

/** How many of rows, in the order of their receipt, came before an instant. */
function countBefore(rows: Uint32Array, received: Float64Array, instant: number): number {
  let [from, to] = [0, rows.length];
  while (from < to) {
    const middle = (from + to) >>> 1;
    if ((received[rows[middle] as number] as number) < instant) from = middle + 1;
    else to = middle;
  }
  return from;
}

/** The rows of each group, by its number, in the order in which they come: counted, then placed. */
function rowsByGroup({ keys, starts, members }: Grouping, ordered: Uint32Array): Uint32Array[] {
  const counts = new Uint32Array(keys.length + 1);
  for (let place = 0; place < ordered.length; place++) {
    const row = ordered[place] as number;
    for (let at = starts[row] as number; at < (starts[row + 1] as number); at++) {
      const next = (members[at] as number) + 1;
      counts[next] = (counts[next] as number) + 1;
    }
  }
  for (let group = 0; group < keys.length; group++)
    counts[group + 1] = (counts[group + 1] as number) + (counts[group] as number);
  const places = counts.slice();
  const rows = new Uint32Array(counts[keys.length] as number);
  for (let place = 0; place < ordered.length; place++) {
    const row = ordered[place] as number;
    for (let at = starts[row] as number; at < (starts[row + 1] as number); at++) {
      const group = members[at] as number;
      const to = places[group] as number;
      rows[to] = row;
      places[group] = to + 1;
    }
  }
  return keys.map((_, group) => rows.subarray(counts[group], counts[group + 1]));
}

function sameAddress({ author, dictionaries }: Columns, rows: Uint32Array): boolean {
  const code = author[rows[0] as number] as number;
  const first = dictionaries.author.address[code];
  for (const row of rows) {
    const other = author[row] as number;
    if (other !== code && dictionaries.author.address[other] !== first) return false;
  }
  return true;
}

function share({ category }: Columns, rows: Uint32Array, wanted: number): number {
  let count = 0;
  for (const row of rows) if (category[row] === wanted) count++;
  return count / rows.length;
}
