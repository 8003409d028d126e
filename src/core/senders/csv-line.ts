import { stringify } from 'csv-stringify/sync';
import { harmless } from './sheet';

/** A line of CSV (RFC 4180), without its end, in which no cell is run by a spreadsheet. */
export function csvLine(cells: readonly unknown[]): string {
  return stringify([cells.map((cell) => harmless(`${cell}`))], { eof: false });
}
