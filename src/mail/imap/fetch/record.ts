import type { MessageFile } from '../../../core/files/file';
import { readFlags } from '../../../core/mailbox/flags';
import type { Flaw, MessageRecord } from '../../../core/mailbox/record';
import { oneLine } from '../../../core/text';
import { HEADER_FIELDS, type HeaderFields, readHeader } from '../../mime/header';
import type { Cursor } from '../wire/cursor';
import { readInternalDate } from '../wire/dates';
import { type Envelope, readEnvelope } from './envelope';
import { readFiles } from './structure';

/** The data items of all that is kept of a message. */
export const METADATA = `UID FLAGS INTERNALDATE RFC822.SIZE ENVELOPE BODYSTRUCTURE BODY.PEEK[HEADER.FIELDS (${HEADER_FIELDS.join(' ')})]`;

/** Those that no server fails to give, whatever the message. */
export const BARE_METADATA = 'UID FLAGS INTERNALDATE RFC822.SIZE';

const NO_HEADER: HeaderFields = { references: [], listId: '', bulkFields: {} };
const NO_ENVELOPE: Envelope = { sent: null, subject: '', from: null, recipients: [], inReplyTo: '', messageId: '' };

/**
 * Reads the data items of one FETCH response (RFC 9051 §7.5.2), whatever their order, those that nobody asked for too; the
 * cursor stands before the list. What is missing is told in `flaws`.
 *
 * @returns undefined where the response is not about a message whole enough to be kept: flags alone, as servers send them
 *   unasked.
 */
export function readRecord(cursor: Cursor): MessageRecord | undefined {
  let uid = 0;
  let size: number | undefined;
  let received: Date | undefined;
  let emailId: string | null = null;
  let listed: string[] = [];
  let envelope: Envelope | null = null;
  let header = NO_HEADER;
  let files: MessageFile[] | null = null;
  cursor.list();
  while (!cursor.closes()) {
    switch (cursor.item()) {
      case 'UID':
        uid = cursor.number();
        break;
      case 'RFC822.SIZE':
        size = cursor.number();
        break;
      case 'INTERNALDATE':
        received = readInternalDate(cursor.string() ?? '');
        break;
      case 'FLAGS':
        listed = readWords(cursor);
        break;
      case 'EMAILID':
        emailId = readWords(cursor)[0] ?? null;
        break;
      case 'ENVELOPE':
        envelope = readEnvelope(cursor);
        break;
      case 'BODYSTRUCTURE':
        files = readFiles(cursor);
        break;
      case 'BODY':
        // Of its sections only some fields of the header were asked for; without any it is a structure.
        if (cursor.isList()) cursor.skip();
        else header = readHeader(cursor.string() ?? '');
        break;
      default:
        cursor.skip();
    }
  }
  if (uid === 0 || size === undefined || received === undefined) return undefined;
  const { sent, subject, from, recipients, inReplyTo, messageId } = envelope ?? NO_ENVELOPE;
  const flaws: Flaw[] = [];
  if (!sent) flaws.push('date');
  if (!from) flaws.push('from');
  if (subject.includes('\ufffd')) flaws.push('subject');
  if (!files) flaws.push('structure');
  const { bits, keywords } = readFlags(listed);
  return {
    uid,
    emailId,
    size,
    received,
    flags: bits,
    keywords: keywords.map(oneLine),
    messageId,
    inReplyTo,
    references: header.references,
    sent,
    from,
    recipients,
    subject,
    listId: header.listId,
    bulkFields: header.bulkFields,
    files: files ?? [],
    flaws,
  };
}

/** A list of atoms, or nothing for NIL. */
export function readWords(cursor: Cursor): string[] {
  const words: string[] = [];
  if (cursor.opens()) while (!cursor.closes()) words.push(cursor.string() ?? 'NIL');
  else cursor.skip();
  return words;
}
