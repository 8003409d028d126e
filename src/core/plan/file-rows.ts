import { expectedGainOfFile, type Shrinking } from '../files/shrinking';
import { type Bits, hasBit, setBit } from './bits';

/** A lot of files, by the rows of these. */
export interface LotOfFiles {
  files: Bits;
  /** How it makes pictures smaller; null: the files go. */
  shrinking: Shrinking | null;
}

/**
 * The rows over which lots of files are compared. First the files; then two more for each that a lot makes smaller: what stays of it,
 * and what that wins. Who lets a file go has all its rows; who makes it smaller has the file's own, which counts it, and the last.
 */
export class FileRows {
  /** Octets by row. */
  readonly sizes: Float64Array;
  /** Of each file that is made smaller, the row. */
  private readonly shrunk: Int32Array;

  /** @param files octets of each. */
  constructor(
    private readonly files: Float64Array,
    lots: readonly LotOfFiles[],
  ) {
    const won = new Map<number, number>();
    for (const { files: bits, shrinking } of lots)
      if (shrinking)
        for (const row of files.keys()) {
          if (!hasBit(bits, row)) continue;
          const gain = expectedGainOfFile(files[row] as number, shrinking.longest);
          won.set(row, Math.max(won.get(row) ?? 0, gain));
        }
    this.shrunk = Int32Array.from(won.keys());
    this.sizes = new Float64Array(files.length + 2 * won.size);
    this.sizes.set(files);
    for (const [at, row] of this.shrunk.entries()) {
      const gain = won.get(row) as number;
      this.sizes[row] = 0;
      this.sizes[files.length + 2 * at] = (files[row] as number) - gain;
      this.sizes[files.length + 2 * at + 1] = gain;
    }
  }

  /** How many rows are files. */
  get count(): number {
    return this.files.length;
  }

  rowsOf({ files, shrinking }: LotOfFiles): Bits {
    if (this.shrunk.length === 0) return files;
    const bits = new Uint32Array((this.sizes.length + 31) >>> 5);
    bits.set(files);
    for (const [at, row] of this.shrunk.entries()) {
      if (!hasBit(files, row)) continue;
      if (!shrinking) setBit(bits, this.files.length + 2 * at);
      setBit(bits, this.files.length + 2 * at + 1);
    }
    return bits;
  }

  /** What of each file lots win together. */
  won(lots: readonly LotOfFiles[]): Float64Array {
    const goes = lots.filter(({ shrinking }) => !shrinking);
    const won = Float64Array.from(this.files);
    for (const [at, row] of this.shrunk.entries())
      if (!goes.some(({ files }) => hasBit(files, row)))
        won[row] = this.sizes[this.files.length + 2 * at + 1] as number;
    return won;
  }
}
