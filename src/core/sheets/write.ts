import { stringify } from 'csv-stringify/sync';
import { escapeFormula } from './cells';

/**
 * Writes a sheet as CSV (RFC 4180), in which no cell is run by a spreadsheet. A byte order mark leads, without which some programs
 * read UTF-8 as something else (common practice, no source).
 */
export function writeSheetLines(lines: Iterable<readonly string[]>): string {
  return stringify(
    Array.from(lines, (cells) => cells.map(escapeFormula)),
    { bom: true, record_delimiter: '\r\n' },
  );
}
