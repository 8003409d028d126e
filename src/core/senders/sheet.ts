import { parse } from 'csv-parse/sync';
import { stringify } from 'csv-stringify/sync';
import { GROUPINGS, type GroupingKind } from './grouping';
import { parseVerdict, printVerdict, type Verdict } from './verdict';

/**
 * The decision sheet: the ranking as CSV (RFC 4180) with a column for decisions, to be filled in any spreadsheet program.
 * A byte order mark leads, without which some of them read UTF-8 as something else (common practice, no source).
 */

export const SHEET_COLUMNS = [
  'by',
  'key',
  'name',
  'messages',
  'bytes',
  'first',
  'last',
  'unread',
  'you wrote',
  'evidence',
  'decision',
] as const;
export type SheetRow = Record<(typeof SHEET_COLUMNS)[number], string>;

export function writeSheet(rows: Iterable<SheetRow>): string {
  const lines = [
    [...SHEET_COLUMNS],
    ...Array.from(rows, (row) => SHEET_COLUMNS.map((column) => escapeFormula(row[column]))),
  ];
  return stringify(lines, { bom: true, record_delimiter: '\r\n' });
}

/** Cells that begin so are run as a formula, or were made harmless by a leading apostrophe. */
const ACTIVE = /^['=+\-@\t\r\n\uff1d\uff0b\uff0d\uff20]/;

/** Neutralises a formula with an apostrophe, and doubles one that is there, so that taking one away restores it. */
export function escapeFormula(cell: string): string {
  return ACTIVE.test(cell) ? `'${cell}` : cell;
}

function restored(cell: string): string {
  return cell.startsWith("'") ? cell.slice(1) : cell;
}

/** What is wrong or doubtful in a line of a sheet. */
export const SHEET_NOTES = [
  'not-a-sheet',
  'unreadable',
  'unknown-grouping',
  'no-such-sender',
  'unknown-decision',
  'twice',
  'changed',
  'takes-nothing',
  'much-evidence',
] as const;
export type SheetNote = (typeof SHEET_NOTES)[number];

export interface SheetDecision {
  line: number;
  by: GroupingKind;
  key: string;
  /** Messages when the sheet was written; undefined where the cell holds no number. */
  messages: number | undefined;
  verdict: Verdict;
}

export interface SheetIssue {
  line: number;
  note: SheetNote;
  /** The cell that is meant, as it stands there. */
  cell: string;
}

/**
 * Reads a sheet that came back. Commas, semicolons or tabs part the cells, whichever the first line uses; columns may
 * stand in any order, and others between them.
 *
 * @returns the decisions that can be read, each with the line in which it begins, from 1; lines without one say nothing.
 */
export function readSheet(text: string): { decisions: SheetDecision[]; issues: SheetIssue[] } {
  const issues: SheetIssue[] = [];
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
    const line = (error as { lines?: number }).lines ?? 1;
    return { decisions: [], issues: [{ line, note: 'unreadable', cell: '' }] };
  }
  const [head, ...body] = records;
  const places = new Map(head?.record.map((name, place) => [name.trim().toLowerCase(), place]));
  const needed = ['by', 'key', 'decision'] as const;
  const missing = needed.find((name) => !places.has(name));
  if (missing) return { decisions: [], issues: [{ line: 1, note: 'not-a-sheet', cell: missing }] };
  const decisions: SheetDecision[] = [];
  const seen = new Set<string>();
  let line = (head?.info.lines ?? 1) + 1;
  for (const { record, info } of body) {
    const begins = line;
    line = info.lines + 1;
    const cell = (name: string) => restored((record[places.get(name) ?? -1] ?? '').trim());
    const decision = cell('decision');
    if (decision === '') continue;
    const note = (kind: SheetNote, what: string) => issues.push({ line: begins, note: kind, cell: what });
    const by = cell('by').toLowerCase();
    if (!isGrouping(by)) {
      note('unknown-grouping', by);
      continue;
    }
    const verdict = parseVerdict(decision);
    if (!verdict) {
      note('unknown-decision', decision);
      continue;
    }
    const key = cell('key');
    const name = `${by} ${key}`;
    if (seen.has(name)) {
      note('twice', key);
      continue;
    }
    seen.add(name);
    const messages = Number(cell('messages').replace(/[\s.,]/g, ''));
    decisions.push({
      line: begins,
      by,
      key,
      messages: cell('messages') !== '' && Number.isSafeInteger(messages) ? messages : undefined,
      verdict,
    });
  }
  return { decisions, issues };
}

function isGrouping(by: string): by is GroupingKind {
  return (GROUPINGS as readonly string[]).includes(by);
}

/** What parts the cells of the first line, quoted ones left out. */
function delimiterOf(text: string): string {
  const first = text.slice(0, text.search(/[\r\n]|$/)).replace(/"[^"]*"/g, '');
  const counts = [',', ';', '\t'].map((delimiter) => first.split(delimiter).length);
  return [',', ';', '\t'][counts.indexOf(Math.max(...counts))] as string;
}

/** Prints what was decided for the column of decisions. */
export function decisionCell(verdict: Verdict | undefined): string {
  return verdict ? printVerdict(verdict) : '';
}
