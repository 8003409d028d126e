/** Whole numbers of at least 0 in as few octets as they need: seven bits each, the last without its highest bit. */
export class VarintWriter {
  private octets = new Uint8Array(1024);
  length = 0;

  push(number: number): void {
    if (this.length + 8 > this.octets.length) {
      const larger = new Uint8Array(this.octets.length * 2);
      larger.set(this.octets);
      this.octets = larger;
    }
    let rest = number;
    while (rest >= 0x80) {
      this.octets[this.length++] = (rest % 0x80) | 0x80;
      rest = Math.floor(rest / 0x80);
    }
    this.octets[this.length++] = rest;
  }

  /** What was written. */
  end(): Uint8Array {
    return this.octets.subarray(0, this.length);
  }
}

/** Reads numbers from one place of octets to another. @throws RangeError where they end in the middle of a number. */
export function eachVarint(octets: Uint8Array, from: number, to: number, take: (number: number) => void): void {
  for (let at = from; at < to; ) {
    let number = 0;
    let scale = 1;
    for (;;) {
      if (at >= to) throw new RangeError('A number is cut off.');
      const octet = octets[at++] as number;
      number += (octet & 0x7f) * scale;
      if (octet < 0x80) break;
      scale *= 0x80;
    }
    take(number);
  }
}
