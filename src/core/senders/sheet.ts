import { readSheetLines } from '../sheets/read';
import { writeSheetLines } from '../sheets/write';
import { GROUPINGS, type GroupingKind } from './grouping';
import { parseVerdict, printVerdict, type Verdict } from './verdict';

/**
 * The decision sheet: the ranking as CSV (RFC 4180) with a column for decisions, to be filled in any spreadsheet program.
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
  return writeSheetLines([
    [...SHEET_COLUMNS],
    ...Array.from(rows, (row) => SHEET_COLUMNS.map((column) => row[column])),
  ]);
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
 * Reads a sheet that came back.
 *
 * @returns the decisions that can be read, each with the line in which it begins, from 1; lines without one say nothing.
 */
export function readSheet(text: string): { decisions: SheetDecision[]; issues: SheetIssue[] } {
  const issues: SheetIssue[] = [];
  const read = readSheetLines(text, ['by', 'key', 'decision']);
  if ('fault' in read) return { decisions: [], issues: [read.fault] };
  const decisions: SheetDecision[] = [];
  const seen = new Set<string>();
  for (const { line: begins, cell } of read.lines) {
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

/** Prints what was decided for the column of decisions. */
export function decisionCell(verdict: Verdict | undefined): string {
  return verdict ? printVerdict(verdict) : '';
}
