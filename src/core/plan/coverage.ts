import { type Bits, hasBit, setBit } from './bits';

/** One choice of the greedy cover: which set, and the weight that it adds to those before it. */
export interface Choice {
  set: number;
  gain: number;
}

/**
 * Weighted maximum coverage, greedily: again and again the set that adds most weight, ties by number. However many are
 * taken, k of them cover at least 1 − (1 − 1/k)^k of what the best k sets cover, more than 1 − 1/e (Nemhauser, Wolsey and
 * Fisher 1978, An analysis of approximations for maximizing submodular set functions, part I).
 *
 * What a set adds never grows as others are taken, so what it added when it was looked at last bounds what it adds now: a
 * set is looked at again only when that bound leads the queue (lazy evaluation; Minoux 1978). Both cited from memory.
 *
 * @param sets rows, each at most once a set.
 * @param weights by row, none negative.
 * @param covered rows that count no more; grows by what is taken.
 */
export function* greedyCover(
  sets: readonly Uint32Array[],
  weights: Float64Array,
  covered: Bits,
): Generator<Choice, void> {
  const queue = new Queue(Float64Array.from(sets, (rows) => gainOf(rows, weights, covered)));
  for (;;) {
    const set = queue.top();
    if (set === undefined) return;
    const gain = gainOf(sets[set] as Uint32Array, weights, covered);
    if (gain < queue.bound(set)) {
      queue.lower(gain);
      continue;
    }
    if (gain <= 0) return;
    for (const row of sets[set] as Uint32Array) setBit(covered, row);
    queue.lower(0);
    yield { set, gain };
  }
}

function gainOf(rows: Uint32Array, weights: Float64Array, covered: Bits): number {
  let gain = 0;
  for (let at = 0; at < rows.length; at++) {
    const row = rows[at] as number;
    if (!hasBit(covered, row)) gain += weights[row] as number;
  }
  return gain;
}

/** Sets by their bounds, the largest on top, ties by number; only the top one changes. */
class Queue {
  private readonly heap: Uint32Array;

  constructor(private readonly bounds: Float64Array) {
    this.heap = Uint32Array.from(bounds.keys()).sort((a, b) => (this.before(a, b) ? -1 : 1));
  }

  top(): number | undefined {
    return this.heap[0];
  }

  bound(set: number): number {
    return this.bounds[set] as number;
  }

  /** Gives the top one a smaller bound, and it sinks. */
  lower(bound: number): void {
    const { heap } = this;
    const set = heap[0] as number;
    this.bounds[set] = bound;
    let at = 0;
    for (;;) {
      let next = 2 * at + 1;
      if (next >= heap.length) break;
      if (next + 1 < heap.length && this.before(heap[next + 1] as number, heap[next] as number)) next++;
      if (!this.before(heap[next] as number, set)) break;
      heap[at] = heap[next] as number;
      at = next;
    }
    heap[at] = set;
  }

  private before(a: number, b: number): boolean {
    const [one, other] = [this.bounds[a] as number, this.bounds[b] as number];
    return one > other || (one === other && a < b);
  }
}
