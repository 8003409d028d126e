/** Share of the table that is filled before it grows. */
const FULL = 0.6;

/**
 * Numbers identifiers in the order in which they are first met. None is kept: two are the same where 64 bits of their hash
 * are, which among a million differs from the truth once in some thirty million mailboxes.
 */
export class Identifiers {
  private count = 0;
  private high = new Int32Array(1 << 12);
  private low = new Int32Array(1 << 12);
  /** The number of the identifier at a place, from 1 on; 0 where none is. */
  private numbers = new Int32Array(1 << 12);

  /** The number of an identifier, counted from 0; a new one gets the next. */
  numberOf(identifier: string): number {
    // FNV-1a, and the mixing of MurmurHash2 over the same letters: neither alone has bits enough.
    let high = 0x811c9dc5;
    let low = identifier.length;
    for (let at = 0; at < identifier.length; at++) {
      const unit = identifier.charCodeAt(at);
      high = Math.imul(high ^ unit, 0x01000193);
      low = Math.imul(low ^ unit, 0x5bd1e995);
      low ^= low >>> 15;
    }
    high = Math.imul(high ^ (high >>> 16), 0x85ebca6b) | 0;
    const place = this.placeOf(high, low | 0);
    const known = this.numbers[place] as number;
    if (known > 0) return known - 1;
    this.high[place] = high;
    this.low[place] = low;
    this.numbers[place] = ++this.count;
    if (this.count > this.numbers.length * FULL) this.grow();
    return this.count - 1;
  }

  /** Where these bits are, or would be. */
  private placeOf(high: number, low: number): number {
    const mask = this.numbers.length - 1;
    let place = (high ^ low) & mask;
    while (this.numbers[place] !== 0 && (this.high[place] !== high || this.low[place] !== low))
      place = (place + 1) & mask;
    return place;
  }

  private grow(): void {
    const { high, low, numbers } = this;
    const size = numbers.length * 2;
    this.high = new Int32Array(size);
    this.low = new Int32Array(size);
    this.numbers = new Int32Array(size);
    for (const [at, number] of numbers.entries()) {
      if (number === 0) continue;
      const place = this.placeOf(high[at] as number, low[at] as number);
      this.high[place] = high[at] as number;
      this.low[place] = low[at] as number;
      this.numbers[place] = number;
    }
  }
}
