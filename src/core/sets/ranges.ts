/**
 * Sets of positive integers as ranges: UIDs on the wire (RFC 9051 §9, sequence-set) and placement ids in the tables.
 *
 * A set is a sorted list of disjoint [first, last] pairs, both ends inside.
 */
export type Ranges = readonly (readonly [number, number])[];

/** The highest UID that a message can have (RFC 9051 §2.3.1.1). */
export const MAX_UID = 0xffffffff;

/** Builds a set from numbers in any order, repeats allowed. */
export function rangesOf(numbers: Iterable<number>): Ranges {
  const sorted = Float64Array.from(numbers).sort();
  const ranges: [number, number][] = [];
  let open: [number, number] | undefined;
  for (const number of sorted) {
    if (open && number <= open[1] + 1) open[1] = number;
    else {
      open = [number, number];
      ranges.push(open);
    }
  }
  return ranges;
}

/** How many numbers are in the set. */
export function countOf(ranges: Ranges): number {
  let count = 0;
  for (const [first, last] of ranges) count += last - first + 1;
  return count;
}

/** Whether a number is in a set; by halving. */
export function includes(ranges: Ranges, number: number): boolean {
  let low = 0;
  let high = ranges.length - 1;
  while (low <= high) {
    const middle = (low + high) >>> 1;
    const [first, last] = ranges[middle] as Ranges[number];
    if (number < first) high = middle - 1;
    else if (number > last) low = middle + 1;
    else return true;
  }
  return false;
}

/** The numbers of the set, rising. */
export function* numbersOf(ranges: Ranges): Generator<number> {
  for (const [first, last] of ranges) for (let number = first; number <= last; number++) yield number;
}

/** Prints as an IMAP sequence-set, such as `1:3,7`. An empty set has no such form: ''. */
export function printSequenceSet(ranges: Ranges): string {
  return ranges.map(([first, last]) => (first === last ? `${first}` : `${first}:${last}`)).join(',');
}

/**
 * Parses an IMAP sequence-set; ends may stand in either order (RFC 9051 §9).
 *
 * @param star what `*` stands for, the largest number in use.
 * @returns undefined where the text is no sequence-set.
 */
export function parseSequenceSet(text: string, star = 0): Ranges | undefined {
  const pairs: [number, number][] = [];
  for (const part of text.split(',')) {
    const match = /^(\d{1,10}|\*)(?::(\d{1,10}|\*))?$/.exec(part);
    if (!match) return undefined;
    const [first, second] = [match[1], match[2] ?? match[1]].map((end) => (end === '*' ? star : Number(end))) as [
      number,
      number,
    ];
    pairs.push(first <= second ? [first, second] : [second, first]);
  }
  pairs.sort((a, b) => a[0] - b[0]);
  const ranges: [number, number][] = [];
  for (const [first, last] of pairs) {
    const open = ranges.at(-1);
    if (open && first <= open[1] + 1) open[1] = Math.max(open[1], last);
    else ranges.push([first, last]);
  }
  return ranges;
}

/** Prints as PostgreSQL's int8multirange, such as `{[1,4),[7,8)}`. */
export function printMultirange(ranges: Ranges): string {
  return `{${ranges.map(([first, last]) => `[${first},${last + 1})`).join(',')}}`;
}

/** Parses PostgreSQL's int8multirange in its canonical form, closed below and open above. */
export function parseMultirange(text: string): Ranges {
  const ranges: [number, number][] = [];
  for (let at = text.indexOf('['); at >= 0; at = text.indexOf('[', at)) {
    const comma = text.indexOf(',', at);
    const end = text.indexOf(')', comma);
    ranges.push([Number(text.slice(at + 1, comma)), Number(text.slice(comma + 1, end)) - 1]);
    at = end;
  }
  return ranges;
}

/** What is in any of several sets. */
export function union(sets: readonly Ranges[]): Ranges {
  const spans = sets.flat().sort(([a], [b]) => a - b);
  const joined: [number, number][] = [];
  for (const [first, last] of spans) {
    const before = joined.at(-1);
    if (before && first <= before[1] + 1) before[1] = Math.max(before[1], last);
    else joined.push([first, last]);
  }
  return joined;
}

/** The numbers of one set that are not in another. */
export function difference(ranges: Ranges, others: Ranges): Ranges {
  const rest: [number, number][] = [];
  let at = 0;
  for (const [first, last] of ranges) {
    let from = first;
    while (at < others.length && (others[at] as [number, number])[1] < from) at++;
    for (let index = at; index < others.length; index++) {
      const [start, end] = others[index] as [number, number];
      if (start > last) break;
      if (start > from) rest.push([from, start - 1]);
      from = end + 1;
      at = index;
    }
    if (from <= last) rest.push([from, last]);
  }
  return rest;
}

/** The numbers that are in both of two sets. */
export function intersection(ranges: Ranges, others: Ranges): Ranges {
  const both: [number, number][] = [];
  for (let one = 0, other = 0; one < ranges.length && other < others.length; ) {
    const [a, b] = ranges[one] as [number, number];
    const [c, d] = others[other] as [number, number];
    const [from, to] = [Math.max(a, c), Math.min(b, d)];
    if (from <= to) both.push([from, to]);
    if (b < d) one++;
    else other++;
  }
  return both;
}

/**
 * The members of a set as few ranges, of which each may reach over numbers that stand for nothing.
 *
 * @param existing all numbers that stand for something, between the first and the last member.
 */
export function covering(members: Ranges, existing: Ranges): Ranges {
  const others = difference(existing, members);
  const covered: [number, number][] = [];
  let at = 0;
  for (const [first, last] of members) {
    while (at < others.length && (others[at] as [number, number])[1] < (covered.at(-1)?.[1] ?? 0)) at++;
    const open = covered.at(-1);
    const next = others[at];
    if (open && (next === undefined || next[0] > first)) open[1] = last;
    else covered.push([first, last]);
  }
  return covered;
}

/** Cuts a set into sets of at most `size` numbers. */
export function* chunksOf(ranges: Ranges, size: number): Generator<Ranges> {
  let chunk: [number, number][] = [];
  let room = size;
  for (const [first, last] of ranges) {
    let from = first;
    while (from <= last) {
      const upTo = Math.min(last, from + room - 1);
      chunk.push([from, upTo]);
      room -= upTo - from + 1;
      from = upTo + 1;
      if (room === 0) {
        yield chunk;
        chunk = [];
        room = size;
      }
    }
  }
  if (chunk.length > 0) yield chunk;
}
