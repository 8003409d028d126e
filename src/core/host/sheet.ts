import { readSheetLines } from '../sheets/read';
import { OCTETS_IN, octetUnit } from '../units';

/**
 * The sheet of mailboxes: CSV (RFC 4180) with the columns address, server, limit and note. Only the address is needed.
 */
export const MAILBOX_COLUMNS = ['address', 'server', 'limit', 'note'] as const;

export const MAILBOX_NOTES = [
  'not-a-sheet',
  'unreadable',
  'too-many',
  'no-address',
  'address-unreadable',
  'server-unreadable',
  'limit-unreadable',
  'note-too-long',
  'twice',
] as const;
export type MailboxNote = (typeof MAILBOX_NOTES)[number];

export interface MailboxLine {
  line: number;
  address: string;
  /** Null: the operator's own. The port null where the sheet names none. */
  server: { host: string; port: number | null } | null;
  bytes: number | null;
  messages: number | null;
  note: string;
}

export interface MailboxIssue {
  line: number;
  note: MailboxNote;
  /** The cell that is meant, as it stands there. */
  cell: string;
}

export const MAX_NOTE = 500;
const MAX_ADDRESS = 320;

/**
 * Reads a sheet of mailboxes. A line of which anything is wrong is an issue and no mailbox.
 *
 * @param most lines that are read.
 */
export function readMailboxSheet(text: string, most: number): { mailboxes: MailboxLine[]; issues: MailboxIssue[] } {
  const read = readSheetLines(text, ['address']);
  if ('fault' in read) return { mailboxes: [], issues: [read.fault] };
  if (read.lines.length > most)
    return { mailboxes: [], issues: [{ line: most + 2, note: 'too-many', cell: `${read.lines.length}` }] };
  const mailboxes: MailboxLine[] = [];
  const issues: MailboxIssue[] = [];
  const seen = new Set<string>();
  for (const { line, cell } of read.lines) {
    const found: MailboxIssue[] = [];
    const wrong = (note: MailboxNote, what: string) => {
      found.push({ line, note, cell: what });
    };
    const address = cell('address').normalize('NFC');
    if (address === '') wrong('no-address', '');
    else if (!isAddress(address)) wrong('address-unreadable', address);
    const server = serverOf(cell('server'));
    if (server === undefined) wrong('server-unreadable', cell('server'));
    const limit = limitOf(cell('limit'));
    if (!limit) wrong('limit-unreadable', cell('limit'));
    const note = cell('note');
    if (note.length > MAX_NOTE) wrong('note-too-long', `${note.slice(0, 40)}…`);
    const name = `${address.toLowerCase()} ${server?.host ?? ''} ${server?.port ?? ''}`;
    if (found.length === 0 && seen.has(name)) wrong('twice', address);
    seen.add(name);
    issues.push(...found);
    if (found.length === 0 && server !== undefined && limit) mailboxes.push({ line, address, server, ...limit, note });
  }
  return { mailboxes, issues };
}

/** A user name as servers take it, usually an address: one line without blanks, and no octet that a command can't hold. */
function isAddress(text: string): boolean {
  // biome-ignore lint/suspicious/noControlCharactersInRegex: these are what it looks for
  return text.length <= MAX_ADDRESS && !/[\s\x00-\x1f\x7f]/.test(text);
}

/** `host` or `host:port`; null for none, undefined where it can't be read. */
function serverOf(text: string): MailboxLine['server'] | undefined {
  if (text === '') return null;
  const match = /^(\[[0-9a-f:.]{2,45}\]|[^\s:/@[\]]{1,253})(?::(\d{1,5}))?$/i.exec(text);
  const port = match?.[2] === undefined ? null : Number(match[2]);
  if (!match || (port !== null && (port < 1 || port > 65_535))) return undefined;
  return { host: match[1] as string, port };
}

/** `5 GiB`, `250,000 messages`, or both; octets where no unit is named. Undefined where it can't be read. */
function limitOf(text: string): { bytes: number | null; messages: number | null } | undefined {
  const limit: { bytes: number | null; messages: number | null } = { bytes: null, messages: null };
  if (text === '') return limit;
  if (text.length > 100) return undefined;
  for (const part of text.split(/\s*(?:;|\+|\band\b)\s*/i)) {
    const match = /^(\d{1,3}(?:,\d{3}){1,4}|\d{1,15}(?:\.\d{1,6})?)\s*([a-z]*)$/i.exec(part.trim());
    if (!match) return undefined;
    const [, number = '', unit = ''] = match;
    const amount = Number(number.replaceAll(',', ''));
    const isMessages = /^(messages?|mails?)$/i.test(unit);
    const octets = unit === '' ? 'B' : octetUnit(unit);
    const [what, value] = isMessages
      ? (['messages', amount] as const)
      : (['bytes', Math.round(amount * (octets ? OCTETS_IN[octets] : 0))] as const);
    if ((!isMessages && !octets) || limit[what] !== null || !Number.isSafeInteger(value) || value < 1) return undefined;
    limit[what] = value;
  }
  return limit;
}
