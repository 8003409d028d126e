/**
 * Row numbers in the order of whole numbers, ties by row. Least significant digit first, 16 bits a pass, so the time
 * grows with the rows and the width of the range, whatever the order they come in.
 *
 * @param values whole numbers, their range below 2^53.
 */
export function orderBy(values: ArrayLike<number>, descending = false): Uint32Array {
  const length = values.length;
  let least = Infinity;
  let most = -Infinity;
  for (let row = 0; row < length; row++) {
    const value = values[row] as number;
    if (value < least) least = value;
    if (value > most) most = value;
  }
  let rows = new Uint32Array(length);
  for (let row = 0; row < length; row++) rows[row] = row;
  let spare = new Uint32Array(length);
  const counts = new Uint32Array(RADIX + 1);
  // Digits of the distance from the end that comes first; words of 32 bits, since these are quick to cut.
  const words = new Uint32Array(length);
  for (let unit = 1; unit <= most - least; unit *= 2 ** 32) {
    for (let row = 0; row < length; row++) {
      const distance = descending ? most - (values[row] as number) : (values[row] as number) - least;
      words[row] = unit === 1 ? distance : Math.floor(distance / unit);
    }
    for (const shift of [0, 16]) {
      if (unit * 2 ** shift > most - least) break;
      counts.fill(0);
      for (let row = 0; row < length; row++) {
        const digit = ((words[row] as number) >>> shift) & (RADIX - 1);
        counts[digit + 1] = (counts[digit + 1] as number) + 1;
      }
      for (let digit = 0; digit < RADIX; digit++)
        counts[digit + 1] = (counts[digit + 1] as number) + (counts[digit] as number);
      for (let place = 0; place < length; place++) {
        const row = rows[place] as number;
        const digit = ((words[row] as number) >>> shift) & (RADIX - 1);
        spare[counts[digit] as number] = row;
        counts[digit] = (counts[digit] as number) + 1;
      }
      [rows, spare] = [spare, rows];
    }
  }
  return rows;
}

const RADIX = 2 ** 16;

/** For each text its place in their order by code points; equal texts share one. */
export function ranksOf(texts: readonly string[]): Uint32Array {
  const order = Uint32Array.from(texts, (_, index) => index).sort((a, b) => {
    const [one, other] = [texts[a] as string, texts[b] as string];
    return one < other ? -1 : one > other ? 1 : 0;
  });
  const ranks = new Uint32Array(texts.length);
  let rank = 0;
  for (let place = 0; place < order.length; place++) {
    const index = order[place] as number;
    if (place > 0 && texts[index] !== texts[order[place - 1] as number]) rank++;
    ranks[index] = rank;
  }
  return ranks;
}

/** The codes with the largest amounts, largest first, ties by code; at most `most`, none with nothing. */
export function largest(amounts: ArrayLike<number>, most: number): number[] {
  // A heap whose top is the smallest of those kept.
  const heap: number[] = [];
  const below = (a: number, b: number) => {
    const difference = (amounts[a] as number) - (amounts[b] as number);
    return difference < 0 || (difference === 0 && a > b);
  };
  const sink = (from: number) => {
    for (let at = from; ; ) {
      let next = at;
      for (const child of [2 * at + 1, 2 * at + 2])
        if (child < heap.length && below(heap[child] as number, heap[next] as number)) next = child;
      if (next === at) return;
      [heap[at], heap[next]] = [heap[next] as number, heap[at] as number];
      at = next;
    }
  };
  for (let code = 0; code < amounts.length; code++) {
    if (!((amounts[code] as number) > 0)) continue;
    if (heap.length < most) {
      heap.push(code);
      for (let at = heap.length - 1; at > 0; ) {
        const above = (at - 1) >> 1;
        if (!below(heap[at] as number, heap[above] as number)) break;
        [heap[at], heap[above]] = [heap[above] as number, heap[at] as number];
        at = above;
      }
    } else if (below(heap[0] as number, code)) {
      heap[0] = code;
      sink(0);
    }
  }
  return heap.sort((a, b) => (amounts[b] as number) - (amounts[a] as number) || a - b);
}
