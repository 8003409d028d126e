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
 * Finds messages that may be copies of each other: those with the same hash whose sizes are near. Costs the same for any hashes,
 * since they are sorted by their digits (LSD radix sort: Knuth, The Art of Computer Programming, vol. 3, §5.2.5).
 */
export function candidateGroups({ high, low, size }: CandidateColumns): Groups {
  const { length } = high;
  let rows = Uint32Array.from({ length }, (_, row) => row);
  let spare = new Uint32Array(length);
  for (const [digits, shift] of [
    [low, 0],
    [low, 16],
    [high, 0],
    [high, 16],
  ] as const) {
    const counts = new Uint32Array(65_537);
    for (let row = 0; row < length; row++) {
      const at = (((digits[row] as number) >>> shift) & 0xffff) + 1;
      counts[at] = (counts[at] as number) + 1;
    }
    for (let at = 1; at < counts.length; at++) counts[at] = (counts[at] as number) + (counts[at - 1] as number);
    for (let at = 0; at < length; at++) {
      const row = rows[at] as number;
      const digit = ((digits[row] as number) >>> shift) & 0xffff;
      spare[counts[digit] as number] = row;
      counts[digit] = (counts[digit] as number) + 1;
    }
    [rows, spare] = [spare, rows];
  }
  const found: number[] = [];
  const starts = [0];
  for (let from = 0; from < length; ) {
    const first = rows[from] as number;
    let until = from + 1;
    while (until < length && high[rows[until] as number] === high[first] && low[rows[until] as number] === low[first])
      until++;
    if (until - from > 1) {
      const alike = rows.subarray(from, until).sort((a, b) => (size[a] as number) - (size[b] as number) || a - b);
      for (let at = 0; at < alike.length; ) {
        let end = at + 1;
        while (
          end < alike.length &&
          (size[alike[end] as number] as number) - (size[alike[end - 1] as number] as number) <= TRANSPORT_ROOM
        )
          end++;
        if (end - at > 1) {
          for (let one = at; one < end; one++) found.push(alike[one] as number);
          starts.push(found.length);
        }
        at = end;
      }
    }
    from = until;
  }
  return { rows: Uint32Array.from(found), starts: Uint32Array.from(starts) };
}
