/** A small deterministic generator (mulberry32, public domain): the same seed gives the same mailbox everywhere. */
export class Random {
  private state: number;

  constructor(seed: number) {
    this.state = seed >>> 0;
  }

  /** Uniform in [0, 1). */
  next(): number {
    this.state = (this.state + 0x6d2b79f5) >>> 0;
    let t = this.state;
    t = Math.imul(t ^ (t >>> 15), t | 1);
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296;
  }

  /** A whole number in [0, below). */
  below(below: number): number {
    return Math.floor(this.next() * below);
  }

  between(from: number, to: number): number {
    return from + this.below(to - from + 1);
  }

  chance(probability: number): boolean {
    return this.next() < probability;
  }

  pick<T>(from: readonly T[]): T {
    return from[this.below(from.length)] as T;
  }

  /** Log-normal around a median. */
  spread(median: number, sigma: number): number {
    const normal = Math.sqrt(-2 * Math.log(1 - this.next())) * Math.cos(2 * Math.PI * this.next());
    return median * Math.exp(sigma * normal);
  }
}

/** Mixes numbers into one seed (the finaliser of MurmurHash3). */
export function seedOf(...numbers: number[]): number {
  let hash = 0x9e3779b9;
  for (const number of numbers) hash = mixed(hash, number);
  return hash;
}

/** One step of `seedOf`, for loops. */
export function mixed(hash: number, number: number): number {
  let next = Math.imul(hash ^ (number >>> 0), 0x85ebca6b);
  next ^= next >>> 13;
  next = Math.imul(next, 0xc2b2ae35);
  return (next ^ (next >>> 16)) >>> 0;
}
