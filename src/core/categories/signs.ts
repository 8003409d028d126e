import { SIGNS, type Sign } from './categories';

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
const DOCUMENT = /^application\/(pdf|.*(word|opendocument|excel|spreadsheet).*)$|^text\/(csv|xml)$|^application\/xml$/;

/**
 * Reads the signs of a message.
 *
 * @param self addresses of the user, lower case.
 * @returns bits of SIGNS.
 */
export function signsOf(source: SignSource, self: ReadonlySet<string>): number {
  const { bulkFields: fields, files } = source;
  const field = (name: string) => fields[name]?.trim().toLowerCase() ?? '';
  const found: Record<Sign, boolean> = {
    // RFC 2369 §3.4: NO means that posting is not allowed, so it is no list to write to.
    listPost: field('list-post') !== '' && !/^no\b/.test(field('list-post')),
    listId: source.listId !== '',
    listUnsubscribe: field('list-unsubscribe') !== '',
    bulkPrecedence: /^(bulk|list|junk)\b/.test(field('precedence')),
    // RFC 3834 §5: any value but `no`; parameters may follow.
    autoSubmitted: field('auto-submitted') !== '' && !/^no\s*(;|$)/.test(field('auto-submitted')),
    feedbackId: field('feedback-id') !== '',
    calendar: files.some(({ type }) => type === 'text/calendar' || type === 'application/ics'),
    noReply: NO_REPLY.test(source.authorAddress),
    deliveryReport: files.some(({ type }) => type === 'message/delivery-status'),
    document: files.some(({ type, name }) => DOCUMENT.test(type) || /\.(pdf|docx?|odt|xlsx?|ods|xml)$/i.test(name)),
    reference: REFERENCE.test(source.subject),
    alone: source.recipients.length > 0 && source.recipients.every(({ address }) => self.has(address)),
    bySelf: self.has(source.authorAddress),
  };
  return (Object.keys(found) as Sign[]).reduce((bits, name) => bits | (found[name] ? SIGNS[name] : 0), 0);
}
