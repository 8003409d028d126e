import type { Columns } from '../columns/columns';
import type { Tally } from '../columns/cross-filter';
import type { UnitSystem } from '../units';

/** The lower edges of the bands of size, in octets: nothing, then decades of the display unit up to 10 of the third. */
export function sizeBands(units: UnitSystem): number[] {
  const kilo = units === 'binary' ? 1024 : 1000;
  return [0, 10 * kilo, 100 * kilo, kilo ** 2, 10 * kilo ** 2];
}

export interface Matrix {
  /** Rising; the first stands for all before it, too. */
  years: number[];
  bands: number[];
  /** Year by year, the bands of each from the smallest. */
  cells: Tally;
}

/** Years in a column: more would be too narrow to read. */
const MAX_YEARS = 12;

/**
 * Messages and octets by the year in which they were received and by band of size.
 *
 * @param mask one octet a row, 0 where it is left out.
 * @param yearStarts gives the instant, in seconds, at which a year begins where the user is.
 */
export function yearMatrix(
  columns: Columns,
  mask: Uint8Array,
  units: UnitSystem,
  lastYear: number,
  yearStarts: (year: number) => number,
): Matrix {
  const bands = sizeBands(units);
  let oldest = Infinity;
  for (let row = 0; row < columns.length; row++)
    if (mask[row] === 1) oldest = Math.min(oldest, columns.received[row] as number);
  let first = lastYear;
  while (first > lastYear - MAX_YEARS + 1 && yearStarts(first) > oldest) first--;
  const years = Array.from({ length: lastYear - first + 1 }, (_, index) => first + index);
  const starts = years.map(yearStarts);
  const cells = {
    messages: new Uint32Array(years.length * bands.length),
    bytes: new Float64Array(years.length * bands.length),
  };
  for (let row = 0; row < columns.length; row++) {
    if (mask[row] === 0) continue;
    const size = columns.size[row] as number;
    let year = years.length - 1;
    while (year > 0 && (starts[year] as number) > (columns.received[row] as number)) year--;
    let band = bands.length - 1;
    while (band > 0 && (bands[band] as number) > size) band--;
    const cell = year * bands.length + band;
    cells.messages[cell] = (cells.messages[cell] as number) + 1;
    cells.bytes[cell] = (cells.bytes[cell] as number) + size;
  }
  return { years, bands, cells };
}
