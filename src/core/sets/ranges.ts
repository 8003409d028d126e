/**
 * Sets of positive integers as ranges: UIDs on the wire (RFC 9051 §9, sequence-set) and placement ids in the tables.
 *
 * A set is a sorted list of disjoint [first, last] pairs, both ends inside.
 */
export type Ranges = readonly (readonly [number, number])[];

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
  return [...text.matchAll(/\[(\d+),(\d+)\)/g)].map((match) => [Number(match[1]), Number(match[2]) - 1] as const);
}

/** The numbers of a sorted or unsorted list that are missing from another, as a set. */
export function missingFrom(numbers: Iterable<number>, others: Iterable<number>): Ranges {
  const have = new Set(others);
  const missing: number[] = [];
  for (const number of numbers) if (!have.has(number)) missing.push(number);
  return rangesOf(missing);
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
