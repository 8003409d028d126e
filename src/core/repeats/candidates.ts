/**
 * Octets by which two copies of one message may differ in size: the fields that servers add on the way. Common practice: they seldom
 * fill a tenth of this.
 */
const TRANSPORT_ROOM = 64 * 1024;

/** Messages by what the index knows of them, a row each. */
export interface CandidateColumns {
  /** 64 bits of a hash of what two copies have in common: Message-ID, author and date. */
  high: Int32Array;
  low: Int32Array;
  /** RFC822.SIZE, octets. */
  size: Float64Array;
}

/** Groups of rows that lie one behind the other: group n is `rows` from `starts[n]` up to `starts[n + 1]`. */
export interface Groups {
  rows: Uint32Array;
  starts: Uint32Array;
}

/**
 * Finds messages that may be copies of each other: those with the same hash whose sizes are near. What has its place in a table to itself
 * is passed by; the others are sorted by the digits of the lower half (LSD radix sort: Knuth, The Art of Computer Programming, vol. 3,
 * §5.2.5), and those that are equal there by the rest.
 */
export function candidateGroups({ high, low, size }: CandidateColumns): Groups {
  const sorted = sortedByLow(sharers(high, low), low);
  const found: number[] = [];
  const starts = [0];
  for (let from = 0; from < sorted.length; ) {
    const value = low[sorted[from] as number];
    let until = from + 1;
    while (until < sorted.length && low[sorted[until] as number] === value) until++;
    if (until - from > 1) {
      order(from, until);
      for (let at = from; at < until; ) {
        let end = at + 1;
        while (end < until && isNear(sorted[end - 1] as number, sorted[end] as number)) end++;
        if (end - at > 1) {
          for (let one = at; one < end; one++) found.push(sorted[one] as number);
          starts.push(found.length);
        }
        at = end;
      }
    }
    from = until;
  }
  return { rows: Uint32Array.from(found), starts: Uint32Array.from(starts) };

  /** Puts rows that are equal in the lower half in order: two, as most are, without more ado. */
  function order(begin: number, end: number): void {
    if (end - begin > 2) sorted.subarray(begin, end).sort(compare);
    else if (compare(sorted[begin] as number, sorted[begin + 1] as number) > 0)
      [sorted[begin], sorted[begin + 1]] = [sorted[begin + 1] as number, sorted[begin] as number];
  }

  function compare(a: number, b: number): number {
    return (high[a] as number) - (high[b] as number) || (size[a] as number) - (size[b] as number) || a - b;
  }

  function isNear(smaller: number, larger: number): boolean {
    return high[smaller] === high[larger] && (size[larger] as number) - (size[smaller] as number) <= TRANSPORT_ROOM;
  }
}

/** Rows that share their place in a table with another: all that have an equal, and few others. */
function sharers(high: Int32Array, low: Int32Array): Uint32Array {
  const { length } = high;
  // Eight places a row: of rows without an equal one in nine meets another.
  const mask = 2 ** Math.ceil(Math.log2(Math.max(1, length) * 8)) - 1;
  const places = new Uint8Array(mask + 1);
  const placeOf = (row: number) => ((low[row] as number) ^ Math.imul(high[row] as number, 0x9e3779b1)) & mask;
  for (let row = 0; row < length; row++) {
    const place = placeOf(row);
    const met = places[place] as number;
    if (met < 2) places[place] = met + 1;
  }
  const rows = new Uint32Array(length);
  let count = 0;
  for (let row = 0; row < length; row++) if (places[placeOf(row)] === 2) rows[count++] = row;
  return rows.subarray(0, count);
}

function sortedByLow(rows: Uint32Array, low: Int32Array): Uint32Array {
  let from: Uint32Array = rows;
  let to: Uint32Array = new Uint32Array(rows.length);
  for (const shift of [0, 16]) {
    const counts = new Uint32Array(65_537);
    for (const row of from) {
      const at = (((low[row] as number) >>> shift) & 0xffff) + 1;
      counts[at] = (counts[at] as number) + 1;
    }
    for (let at = 1; at < counts.length; at++) counts[at] = (counts[at] as number) + (counts[at - 1] as number);
    for (const row of from) {
      const digit = ((low[row] as number) >>> shift) & 0xffff;
      const place = counts[digit] as number;
      to[place] = row;
      counts[digit] = place + 1;
    }
    [from, to] = [to, from];
  }
  return from;
}
