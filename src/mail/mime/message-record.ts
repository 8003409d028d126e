import addressParser from 'nodemailer/lib/addressparser/index.js';
import { fileOf, MAX_FILES, type MessageFile } from '../../core/files/file';
import { type EmailAddress, mailbox } from '../../core/mailbox/email-address';
import type { Flaw, MessageRecord } from '../../core/mailbox/record';
import { type Field, fieldsOf, parametersOf } from '../../core/mime/fields';
import { NOTE_DESCRIPTION } from '../../core/mime/note';
import type { MimePart, MimeStructure } from '../../core/mime/scanner';
import { readAuthor } from './author';
import { decodeWords } from './charset';
import { clean } from './clean';
import { believedDate } from './date';
import { readHeader } from './header';
import { parameterOf } from './parameter';

/** What a message says of itself; where it lies and what was done with it stand elsewhere. */
export type MessageContents = Omit<MessageRecord, 'uid' | 'emailId' | 'size' | 'received' | 'flags' | 'keywords'>;

/** Characters of a field of recipients that are read, and recipients that are kept. */
const MAX_FIELD_LENGTH = 64_000;
const MAX_RECIPIENTS = 500;
/** Reads of the octets of a message what a mail server tells of one (RFC 5322, ENVELOPE and BODYSTRUCTURE of RFC 9051 §7.5.2). */
export function contentsOf({ parts, doubt }: MimeStructure): MessageContents {
  const header = inUtf8(parts[0]?.header ?? '');
  const fields = fieldsOf(header);
  const first = (name: string) => fields.find((field) => field.name === name)?.value ?? '';
  const { references, listId, bulkFields } = readHeader(header);
  const from = readAuthor(`From: ${first('from') || first('sender')}`);
  const subject = clean(decodeWords(first('subject')));
  const sent = instantOf(first('date'));
  const flaws: Flaw[] = [];
  if (!sent) flaws.push('date');
  if (!from) flaws.push('from');
  if (subject.includes('\ufffd')) flaws.push('subject');
  // Where programs differ in what is part of what, nothing is missing.
  if ((doubt && doubt !== 'ambiguous') || parts.some(isCut)) flaws.push('structure');
  return {
    ...{ messageId: clean(first('message-id')), inReplyTo: clean(first('in-reply-to')), references },
    ...{ sent, from, recipients: recipientsOf(fields), subject, listId, bulkFields, files: filesOf(parts), flaws },
  };
}

/** When the last server took a message in, by the topmost field of those that servers add (RFC 5321 §4.4); null where none tells. */
export function receivedBy({ parts }: MimeStructure): Date | null {
  const field = fieldsOf(parts[0]?.header ?? '').find(({ name }) => name === 'received');
  const date = field?.value.slice(field.value.lastIndexOf(';') + 1) ?? '';
  return field?.value.includes(';') ? instantOf(date.replace(/\([^()]*\)\s*$/, '')) : null;
}

/** Whether there is a header at all that anything can be read of. */
export function hasFields({ parts }: MimeStructure): boolean {
  return fieldsOf(parts[0]?.header ?? '').some(({ name }) => name !== '');
}

function isCut({ type, boundary, isClosed }: MimePart): boolean {
  return type.startsWith('multipart/') && boundary !== undefined && !isClosed;
}

function instantOf(text: string): Date | null {
  return believedDate(text.slice(0, 100).trim());
}

/** To and Cc; the members of a group, and the name of one that has none. */
function recipientsOf(fields: readonly Field[]): EmailAddress[] {
  const found: EmailAddress[] = [];
  for (const wanted of ['to', 'cc'])
    for (const { name, value } of fields) {
      if (name !== wanted || found.length >= MAX_RECIPIENTS) continue;
      for (const { name: shown, address } of addressParser(value.slice(0, MAX_FIELD_LENGTH), { flatten: true })) {
        const one = mailbox(clean(decodeWords(shown)), address.includes('@') ? clean(address) : '');
        if ((one.name !== '' || one.address !== '') && found.length < MAX_RECIPIENTS) found.push(one);
      }
    }
  return found;
}

/** The files of a message, in the order in which they begin. */
function filesOf(parts: readonly MimePart[]): MessageFile[] {
  const enclosing = new Set(parts.flatMap(({ parent, isMessage }) => (isMessage && parent ? [parent] : [])));
  const files: MessageFile[] = [];
  /** By the part of an enclosed message, its place among the files. */
  const open = new Map<MimePart, number>();
  for (const part of parts) {
    const file = part.type.startsWith('multipart/') || files.length >= MAX_FILES ? undefined : fileIn(part);
    if (!file) continue;
    const around = enclosersOf(part, open);
    for (const at of around) (files[at] as MessageFile).inside++;
    if (enclosing.has(part)) open.set(part, files.length);
    files.push({ ...file, inside: 0, enclosed: around.length > 0 });
  }
  return files;
}

function enclosersOf(part: MimePart, open: ReadonlyMap<MimePart, number>): number[] {
  const found: number[] = [];
  for (let above = part.parent; above; above = above.parent) {
    const at = open.get(above);
    if (at !== undefined) found.push(at);
  }
  return found;
}

function fileIn(part: MimePart): Omit<MessageFile, 'inside' | 'enclosed'> | undefined {
  const { type, section, encoding, bodyFrom, bodyTo } = part;
  const header = inUtf8(part.header);
  const fields = fieldsOf(header);
  const first = (name: string) => fields.find((field) => field.name === name)?.value ?? '';
  if (first('content-description') === NOTE_DESCRIPTION) return undefined;
  const disposition = first('content-disposition');
  const marked = /^\s*([a-z]+)/i.exec(disposition)?.[1]?.toLowerCase() ?? null;
  const name =
    parameterOf(parametersOf(disposition), 'filename') || parameterOf(parametersOf(first('content-type')), 'name');
  const file = fileOf(type, name, marked);
  return file ? { ...file, type, size: bodyTo - bodyFrom, part: section, encoding } : undefined;
}

/** A header, an octet a character, as UTF-8 (RFC 6532); where it can't be that, it stays one octet a letter. */
export function inUtf8(header: string): string {
  const octets = Buffer.from(header, 'latin1');
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(octets);
  } catch {
    return header;
  }
}
