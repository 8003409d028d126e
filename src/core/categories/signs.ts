import { SIGNS } from './categories';

/** What of a message bears signs of how it came to be. */
export interface SignSource {
  /** Header fields by lower-case name. */
  bulkFields: Readonly<Record<string, string>>;
  listId: string;
  authorAddress: string;
  recipients: readonly { address: string }[];
  subject: string;
  files: readonly { type: string; name: string }[];
}

/** Local parts that say that no answer is read. Common practice, no source. */
const NO_REPLY =
  /^(no|not|donot|do-not|do_not|nicht)[-_.]?(reply|answer|response|antworten)|^(mailer-daemon|postmaster|bounces?|notifications?|alerts?)\b/;

/** The number of an order, invoice or ticket, in no particular language: `#4711`, `No. 2024-113`, `INV-2093`, `43211`. */
const REFERENCE = /(?:#|№|\bn[or]\.?)\s*\d{3,}|\b\p{L}{1,5}[-/]?\d{4,}\b|\b\d{4}[-/]\d{3,}\b|\b\d{5,}\b/iu;
/** What every such number holds, which is told at once. */
const DIGITS = /\d{3}/;
const DOCUMENT = /^application\/(pdf|.*(word|opendocument|excel|spreadsheet).*)$|^text\/(csv|xml)$|^application\/xml$/;

/**
 * Reads the signs of a message.
 *
 * @param self addresses of the user, lower case.
 * @returns bits of SIGNS.
 */
export function signsOf(source: SignSource, self: ReadonlySet<string>): number {
  const { bulkFields: fields, files, recipients, authorAddress } = source;
  let signs = 0;
  const listPost = field(fields, 'list-post');
  // RFC 2369 §3.4: NO means that posting is not allowed, so it is no list to write to.
  if (listPost !== '' && !/^no\b/.test(listPost)) signs |= SIGNS.listPost;
  if (source.listId !== '') signs |= SIGNS.listId;
  if (field(fields, 'list-unsubscribe') !== '') signs |= SIGNS.listUnsubscribe;
  if (/^(bulk|list|junk)\b/.test(field(fields, 'precedence'))) signs |= SIGNS.bulkPrecedence;
  // RFC 3834 §5: any value but `no`; parameters may follow.
  const autoSubmitted = field(fields, 'auto-submitted');
  if (autoSubmitted !== '' && !/^no\s*(;|$)/.test(autoSubmitted)) signs |= SIGNS.autoSubmitted;
  if (field(fields, 'feedback-id') !== '') signs |= SIGNS.feedbackId;
  for (const { type, name } of files) {
    if (type === 'text/calendar' || type === 'application/ics') signs |= SIGNS.calendar;
    if (type === 'message/delivery-status') signs |= SIGNS.deliveryReport;
    if (DOCUMENT.test(type) || /\.(pdf|docx?|odt|xlsx?|ods|xml)$/i.test(name)) signs |= SIGNS.document;
  }
  if (NO_REPLY.test(authorAddress)) signs |= SIGNS.noReply;
  if (DIGITS.test(source.subject) && REFERENCE.test(source.subject)) signs |= SIGNS.reference;
  if (recipients.length > 0 && recipients.every(({ address }) => self.has(address))) signs |= SIGNS.alone;
  if (self.has(authorAddress)) signs |= SIGNS.bySelf;
  return signs;
}

function field(fields: Readonly<Record<string, string>>, name: string): string {
  const value = fields[name];
  return value === undefined ? '' : value.trim().toLowerCase();
}
