import { TZDate } from '@date-fns/tz';
import { addMonths, startOfMonth } from 'date-fns';
import type { Columns } from './columns';

/** Rows of the field: four to a doubling, from 256 octets to 256 MiB; what lies outside counts to the outermost. */
export const SIZE_BINS = 80;
const BINS_A_DOUBLING = 4;
const SMALLEST_EXPONENT = 8;

/** The row of the field in which a size lies. */
export function sizeBin(octets: number): number {
  if (octets < 2 ** SMALLEST_EXPONENT) return 0;
  const bin = Math.floor((Math.log2(octets) - SMALLEST_EXPONENT) * BINS_A_DOUBLING);
  return Math.min(SIZE_BINS - 1, bin);
}

/** Octets at a height of the field, in bins and parts of them. */
export function sizeAt(bins: number): number {
  return 2 ** (SMALLEST_EXPONENT + bins / BINS_A_DOUBLING);
}

/** The height at which a size lies in the field, in bins and parts of them, within it. */
export function heightOf(octets: number): number {
  const bins = (Math.log2(Math.max(1, octets)) - SMALLEST_EXPONENT) * BINS_A_DOUBLING;
  return Math.max(0, Math.min(SIZE_BINS, bins));
}

/** The months of the field in the user's time zone: the start of each, and the end of the last. Seconds. */
export type Months = Float64Array;

/** Columns of the field: at most forty years; what is older counts to the first. */
const MAX_MONTHS = 480;

/** The months in which mail was received, up to the one after now. A clock that was wrong makes no column of its own. */
export function monthsOf(received: Float64Array, now: Date, timeZone: string): Months {
  let oldest = Infinity;
  let newest = -Infinity;
  for (let row = 0; row < received.length; row++) {
    const value = received[row] as number;
    if (value < oldest) oldest = value;
    if (value > newest) newest = value;
  }
  const today = now.getTime() / 1000;
  if (oldest > newest) oldest = newest = today;
  const last = startOfMonth(new TZDate(Math.min(newest, today + 86_400) * 1000, timeZone));
  const starts: number[] = [addMonths(last, 1).getTime() / 1000];
  for (let back = 0; back < MAX_MONTHS; back++) {
    const start = addMonths(last, -back).getTime() / 1000;
    starts.push(start);
    if (start <= oldest) break;
  }
  return Float64Array.from(starts.reverse());
}

/** The column of each row. */
export function monthColumn(received: Float64Array, months: Months): Uint16Array {
  const columns = new Uint16Array(received.length);
  const last = months.length - 2;
  for (let row = 0; row < columns.length; row++) {
    const value = received[row] as number;
    let [from, to] = [0, last];
    while (from < to) {
      const middle = (from + to + 1) >>> 1;
      if ((months[middle] as number) <= value) from = middle;
      else to = middle - 1;
    }
    columns[row] = from;
  }
  return columns;
}

export function sizeColumn({ size }: Pick<Columns, 'size'>): Uint8Array {
  const bins = new Uint8Array(size.length);
  for (let row = 0; row < bins.length; row++) bins[row] = sizeBin(size[row] as number);
  return bins;
}
