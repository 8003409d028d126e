import type { Ranges } from '../sets/ranges';

/** A set of rows: bit `row & 31` of word `row >>> 5`. Bits beyond the last row are 0. */
export type Bits = Uint32Array;

export function emptyBits(rows: number): Bits {
  return new Uint32Array((rows + 31) >>> 5);
}

export function hasBit(bits: Bits, row: number): boolean {
  return (((bits[row >>> 5] as number) >>> (row & 31)) & 1) === 1;
}

export function setBit(bits: Bits, row: number): void {
  bits[row >>> 5] = (bits[row >>> 5] as number) | (1 << (row & 31));
}

/** Sets the rows from one up to but without another. */
function setSpan(bits: Bits, from: number, to: number): void {
  for (let row = from; row < to; ) {
    if ((row & 31) === 0 && row + 32 <= to) {
      bits[row >>> 5] = 0xffffffff;
      row += 32;
    } else setBit(bits, row++);
  }
}

/**
 * The rows whose ids lie in a set; ids that have no row are left out.
 *
 * @param ids of the rows, rising.
 */
export function bitsOfRanges(ranges: Ranges, ids: ArrayLike<number>): Bits {
  const bits = emptyBits(ids.length);
  let row = 0;
  for (const [first, last] of ranges) {
    row = firstAtLeast(ids, first, row);
    const end = firstAtLeast(ids, last + 1, row);
    setSpan(bits, row, end);
    row = end;
  }
  return bits;
}

/** The first row from one on whose id is at least this; steps double, since sets are mostly close together. */
function firstAtLeast(ids: ArrayLike<number>, id: number, from: number): number {
  let step = 1;
  let low = from;
  while (low + step < ids.length && (ids[low + step] as number) < id) {
    low += step;
    step *= 2;
  }
  let high = Math.min(ids.length, low + step);
  while (low < high) {
    const middle = (low + high) >>> 1;
    if ((ids[middle] as number) < id) low = middle + 1;
    else high = middle;
  }
  return low;
}

/** Calls a visitor for every row, rising. */
export function eachBit(bits: Bits, visit: (row: number) => void): void {
  for (let index = 0; index < bits.length; index++)
    for (let rest = bits[index] as number; rest !== 0; rest &= rest - 1)
      visit(index * 32 + 31 - Math.clz32(rest & -rest));
}
