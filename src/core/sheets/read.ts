import { parse } from 'csv-parse/sync';
import { unescapeFormula } from './cells';

/** A line of a sheet that came back from a spreadsheet program. */
export interface SheetLine {
  /** In which it begins, from 1. */
  line: number;
  /** The cell of a column, without blanks around it; '' where there is none. */
  cell(column: string): string;
}

/** What can't be read of a sheet as a whole: it is no CSV, or a column is missing. */
export interface SheetFault {
  line: number;
  note: 'unreadable' | 'not-a-sheet';
  /** The column that is missing. */
  cell: string;
}

/**
 * Reads a sheet: CSV (RFC 4180) with the names of its columns in the first line. Commas, semicolons or tabs part the cells, whichever
 * the first line uses; columns may stand in any order, and others between them.
 *
 * @param needed names of columns, in lower case, without which it is no such sheet.
 */
export function readSheetLines(
  text: string,
  needed: readonly string[],
): { lines: SheetLine[] } | { fault: SheetFault } {
  let records: { record: string[]; info: { lines: number } }[];
  try {
    records = parse(text, {
      bom: true,
      delimiter: delimiterOf(text),
      relax_column_count: true,
      skip_empty_lines: true,
      info: true,
    }) as unknown as typeof records;
  } catch (error) {
    return { fault: { line: (error as { lines?: number }).lines ?? 1, note: 'unreadable', cell: '' } };
  }
  const [head, ...body] = records;
  const places = new Map(head?.record.map((name, place) => [name.trim().toLowerCase(), place]));
  const missing = needed.find((name) => !places.has(name));
  if (missing) return { fault: { line: 1, note: 'not-a-sheet', cell: missing } };
  let line = (head?.info.lines ?? 1) + 1;
  const lines = body.map(({ record, info }) => {
    const begins = line;
    line = info.lines + 1;
    const cell = (name: string) => unescapeFormula((record[places.get(name) ?? -1] ?? '').trim());
    return { line: begins, cell };
  });
  return { lines };
}

/** What parts the cells of the first line, quoted ones left out. */
function delimiterOf(text: string): string {
  const first = text.slice(0, text.search(/[\r\n]|$/)).replace(/"[^"]*"/g, '');
  const counts = [',', ';', '\t'].map((delimiter) => first.split(delimiter).length);
  return [',', ';', '\t'][counts.indexOf(Math.max(...counts))] as string;
}
