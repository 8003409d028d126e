import type { FetchMessageObject, MessageAddressObject, MessageStructureObject } from 'imapflow';
import libmime from 'libmime';
import { fileOf, type MessageFile } from '../src/core/files/file';
import { type EmailAddress, mailbox } from '../src/core/mailbox/email-address';
import { readFlags } from '../src/core/mailbox/flags';
import type { Flaw, MessageRecord } from '../src/core/mailbox/record';
import { oneLine, storable } from '../src/core/text';
import { HEADER_FIELDS } from '../src/mail/mime/header';

const BULK_FIELDS = new Set(HEADER_FIELDS.slice(2).map((name) => name.toLowerCase()));

/** Longest text kept of a field; a hostile header may hold megabytes. */
const MAX_LENGTH = 2_000;
const MAX_RECIPIENTS = 500;
const MAX_FILES = 500;

/** Earliest and latest Date field that is believed: before there was mail, and beyond any clock that is merely wrong. */
const BELIEVED = { from: Date.UTC(1971, 0), to: Date.UTC(2100, 0) };

/** What is kept of a message, from what the general client library's own parser makes of it: the second opinion. */
export function recordOf(message: FetchMessageObject): MessageRecord {
  const flaws: Flaw[] = [];
  const envelope = message.envelope;
  const received = message.internalDate instanceof Date ? message.internalDate : new Date(0);
  const sent = believedDate(envelope?.date);
  if (!sent) flaws.push('date');
  const from = authorOf(envelope?.from);
  if (!from) flaws.push('from');
  const subject = cutText(envelope?.subject);
  if (subject.includes('\ufffd')) flaws.push('subject');
  if (!message.bodyStructure) flaws.push('structure');
  const fields = headerFields(message.headers);
  const { bits, keywords } = readFlags(message.flags ?? []);
  return {
    uid: message.uid,
    emailId: message.emailId ?? null,
    size: message.size ?? 0,
    received,
    flags: bits,
    keywords: keywords.map((keyword) => oneLine(keyword)),
    messageId: cutText(envelope?.messageId),
    inReplyTo: cutText(envelope?.inReplyTo),
    references: (fields.get('references') ?? '').match(/<[^<>\s]+>/g) ?? [],
    sent,
    from,
    recipients: [...(envelope?.to ?? []), ...(envelope?.cc ?? [])]
      .slice(0, MAX_RECIPIENTS)
      .map(addressOf)
      .filter((to) => to.name !== '' || to.address !== ''),
    subject,
    listId: listIdOf(fields.get('list-id') ?? ''),
    bulkFields: Object.fromEntries([...fields].filter(([name]) => BULK_FIELDS.has(name))),
    files: message.bodyStructure ? filesOf(message.bodyStructure).slice(0, MAX_FILES) : [],
    flaws,
  };
}

function believedDate(date: unknown): Date | null {
  if (!(date instanceof Date)) return null;
  const time = date.getTime();
  return time >= BELIEVED.from && time < BELIEVED.to ? date : null;
}

/** Of several authors the first counts. */
function authorOf(list: MessageAddressObject[] | undefined): EmailAddress | null {
  const first = list?.[0];
  if (!first) return null;
  const author = addressOf(first);
  return author.name === '' && author.address === '' ? null : author;
}

/** Dovecot writes MISSING_MAILBOX and MISSING_DOMAIN where an address has none, which is no address then. */
function addressOf({ name, address = '' }: MessageAddressObject): EmailAddress {
  const [local = '', host = ''] = [
    address.slice(0, address.lastIndexOf('@')),
    address.slice(address.lastIndexOf('@') + 1),
  ];
  const isMissing = (part: string) => /^missing_(mailbox|domain)$/i.test(part);
  if (!isMissing(local) && !isMissing(host)) return mailbox(cutText(name), cutText(address));
  return mailbox(cutText(name || (isMissing(local) ? '' : local)), '');
}

function cutText(text: string | undefined): string {
  return oneLine((text ?? '').slice(0, MAX_LENGTH));
}

/** Unfolds header fields (RFC 5322 §2.2.3); of a repeated field the first counts. */
function headerFields(raw: Buffer | undefined): Map<string, string> {
  const fields = new Map<string, string>();
  const unfolded = storable((raw ?? Buffer.alloc(0)).toString('utf8')).replace(/\r?\n[ \t]+/g, ' ');
  for (const line of unfolded.split(/\r?\n/)) {
    const colon = line.indexOf(':');
    const name = line.slice(0, colon).trim().toLowerCase();
    if (colon > 0 && !fields.has(name)) fields.set(name, oneLine(line.slice(colon + 1).slice(0, MAX_LENGTH * 4)));
  }
  return fields;
}

/** The identifier between angle brackets, else the whole field, as old lists wrote it (RFC 2919 §3). */
function listIdOf(field: string): string {
  const decoded = oneLine(libmime.decodeWords(field));
  return (/<([^<>]+)>\s*$/.exec(decoded)?.[1] ?? decoded).trim().toLowerCase().slice(0, 255);
}

const MAX_DEPTH = 32;

function filesOf(node: MessageStructureObject, enclosed = false, depth = 0): MessageFile[] {
  if (depth > MAX_DEPTH) return [];
  const inner = (node.childNodes ?? []).flatMap((child) =>
    filesOf(child, enclosed || !node.type.startsWith('multipart/'), depth + 1),
  );
  if (node.type.startsWith('multipart/')) return inner;
  const name = node.dispositionParameters?.filename || node.parameters?.name || '';
  const found = fileOf(node.type, name, node.disposition ?? null);
  const { size = 0, part = '', encoding = '' } = node;
  return found
    ? [{ ...found, type: node.type, size, part, encoding, inside: inner.length, enclosed }, ...inner]
    : inner;
}
