import type { EmailAddress } from '../../../core/mailbox/email-address';
import { decodeWords } from '../../mime/charset';
import { clean } from '../../mime/clean';
import { believedDate } from '../../mime/date';
import type { Cursor } from '../wire/cursor';

const MAX_RECIPIENTS = 500;

/**
 * What general servers put where an address has no mailbox or no domain, or can't be read. Common practice, no source:
 * MISSING_MAILBOX and MISSING_DOMAIN were seen from Dovecot 2.3; the others are from memory.
 */
const PLACEHOLDERS: ReadonlySet<string> = new Set([
  'MISSING_MAILBOX',
  'MISSING_DOMAIN',
  'SYNTAX_ERROR',
  '.SYNTAX-ERROR.',
  '.MISSING-HOST-NAME.',
  'MISSING_MAILBOX_TERMINATOR',
  'INVALID_ADDRESS',
]);

/** What is kept of ENVELOPE (RFC 9051 §7.5.2). */
export interface Envelope {
  sent: Date | null;
  subject: string;
  /** Of several authors the first counts. */
  from: EmailAddress | null;
  /** To and Cc. */
  recipients: EmailAddress[];
  inReplyTo: string;
  messageId: string;
}

export function readEnvelope(cursor: Cursor): Envelope | null {
  if (!cursor.opens()) {
    cursor.skip();
    return null;
  }
  const sent = believedDate(cursor.string());
  const subject = clean(decodeWords(cursor.string() ?? ''));
  const from = readAddresses(cursor, 1)[0] ?? null;
  // Sender and Reply-To.
  cursor.skip();
  cursor.skip();
  const recipients = readAddresses(cursor, MAX_RECIPIENTS);
  const copied = readAddresses(cursor, MAX_RECIPIENTS - recipients.length);
  for (const to of copied) recipients.push(to);
  cursor.skip();
  const inReplyTo = clean(cursor.string()?.trim() ?? null);
  const messageId = clean(cursor.string()?.trim() ?? null);
  cursor.leave();
  return { sent, subject, from: named(from) ? from : null, recipients: recipients.filter(named), inReplyTo, messageId };
}

function named(address: EmailAddress | null): boolean {
  return address !== null && (address.name !== '' || address.address !== '');
}

/** Reads a list of addresses, of which at most so many are kept; the marks of a group's end are left out. */
function readAddresses(cursor: Cursor, most: number): EmailAddress[] {
  const addresses: EmailAddress[] = [];
  if (!cursor.opens()) {
    cursor.skip();
    return addresses;
  }
  while (!cursor.closes()) {
    if (addresses.length >= most || !cursor.opens()) {
      cursor.skip();
      continue;
    }
    const name = unquoted(decodeWords(cursor.string() ?? ''));
    // The source route, which nobody writes any more.
    cursor.skip();
    const local = withoutPlaceholder(cursor.string());
    const host = withoutPlaceholder(cursor.string());
    cursor.leave();
    // Without a host it opens a group, whose name stands in place of the local part, or ends it with neither.
    if (host !== '' && local !== '')
      addresses.push({ name: clean(name), address: clean(`${local}@${host}`).toLowerCase() });
    else if (name !== '' || local !== '')
      addresses.push({ name: clean(name || unquoted(decodeWords(local))), address: '' });
  }
  return addresses;
}

function withoutPlaceholder(part: string | null): string {
  return part === null || PLACEHOLDERS.has(part) ? '' : part;
}

/** Some servers leave the quotes around a display name. */
function unquoted(name: string): string {
  return name.length > 2 && name.startsWith('"') && name.endsWith('"') ? name.slice(1, -1) : name;
}
