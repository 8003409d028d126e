import { stringify } from 'csv-stringify/sync';
import { escapeFormula } from './cells';

/** A line of CSV (RFC 4180), without its end, in which no cell is run by a spreadsheet. */
export function csvLine(cells: readonly unknown[]): string {
  return stringify([cells.map((cell) => escapeFormula(`${cell}`))], { eof: false });
}
