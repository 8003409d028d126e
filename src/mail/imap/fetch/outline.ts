import type { EmailAddress } from '../../../core/mailbox/email-address';
import { readFlags } from '../../../core/mailbox/flags';
import { readAuthor } from '../../mime/author';
import type { FlagsRecord, Outline } from '../../server';
import type { Cursor } from '../wire/cursor';
import { readInternalDate } from '../wire/dates';
import { readWords } from './record';

/** The data items of a first ranking: a sixth of the octets of all. */
export const AUTHORS = 'UID FLAGS INTERNALDATE RFC822.SIZE BODY.PEEK[HEADER.FIELDS (FROM)]';
export const FLAGS = 'UID FLAGS';

/** Headers of From whose author is remembered: few wrote most of a mailbox. */
const MAX_REMEMBERED = 20_000;

/** Reads size, date, flags and author. */
export class OutlineReader {
  private readonly authors = new Map<string, EmailAddress | null>();

  read(cursor: Cursor): Outline | undefined {
    let uid = 0;
    let size: number | undefined;
    let received: Date | undefined;
    let listed: string[] = [];
    let from: EmailAddress | null = null;
    cursor.list();
    while (!cursor.closes()) {
      const item = cursor.item();
      if (item === 'UID') uid = cursor.number();
      else if (item === 'RFC822.SIZE') size = cursor.number();
      else if (item === 'INTERNALDATE') received = readInternalDate(cursor.string() ?? '');
      else if (item === 'FLAGS') listed = readWords(cursor);
      else if (item === 'BODY' && !cursor.isList()) from = this.author(cursor.string() ?? '');
      else cursor.skip();
    }
    if (uid === 0 || size === undefined || received === undefined) return undefined;
    return { uid, size, received, flags: readFlags(listed).bits, from };
  }

  private author(header: string): EmailAddress | null {
    let author = this.authors.get(header);
    if (author !== undefined) return author;
    author = readAuthor(header);
    if (this.authors.size >= MAX_REMEMBERED) this.authors.clear();
    this.authors.set(header, author);
    return author;
  }
}

export function readFlagsRecord(cursor: Cursor): FlagsRecord | undefined {
  let uid = 0;
  let listed: string[] | undefined;
  cursor.list();
  while (!cursor.closes()) {
    const item = cursor.item();
    if (item === 'UID') uid = cursor.number();
    else if (item === 'FLAGS') listed = readWords(cursor);
    else cursor.skip();
  }
  if (uid === 0 || !listed) return undefined;
  const { bits, keywords } = readFlags(listed);
  return { uid, flags: bits, keywords };
}

/** The UID of a message; undefined for what tells none. */
export function readUid(cursor: Cursor): number | undefined {
  let uid: number | undefined;
  cursor.list();
  while (!cursor.closes()) {
    if (cursor.item() === 'UID') uid = cursor.number();
    else cursor.skip();
  }
  return uid;
}

/** When a message came into its folder (RFC 8514 §4.3); null where the server does not know. */
export function readSavedAt(cursor: Cursor): { uid: number; at: Date | null } | undefined {
  let uid = 0;
  let at: Date | null | undefined;
  cursor.list();
  while (!cursor.closes()) {
    const item = cursor.item();
    if (item === 'UID') uid = cursor.number();
    else if (item === 'SAVEDATE') at = savedDate(cursor.string());
    else cursor.skip();
  }
  return uid === 0 || at === undefined ? undefined : { uid, at };
}

function savedDate(text: string | null): Date | null {
  const date = text === null ? undefined : readInternalDate(text);
  return date && date.getTime() > 0 ? date : null;
}
