import addressParser from 'nodemailer/lib/addressparser/index.js';
import { type EmailAddress, mailbox } from '../../core/mailbox/email-address';
import { decodeWords } from './charset';
import { clean } from './clean';

/** Characters of a field that are read: of its first author only, and any sender can make it as long as a message may be. */
const MAX_FIELD_LENGTH = 8_000;
/** A display name that holds nothing that would have to be quoted, and an address that does not. Neither can match in two ways. */
const PLAIN_NAME = /^[^"<>,;:()\\]*$/;
const PLAIN_ADDRESS = /^[^<>@\s,;:()"\\]+@[^<>@\s,;:()"\\]+$/;

/**
 * Reads the first author out of a header that holds From and nothing else (RFC 5322 §3.6.2), as ENVELOPE would tell it.
 *
 * @returns null where there is none.
 */
export function readAuthor(header: string): EmailAddress | null {
  const colon = header.indexOf(':');
  if (colon < 0) return null;
  const field = header
    .slice(colon + 1, colon + 1 + MAX_FIELD_LENGTH)
    .replace(/\r?\n(?=[ \t])/g, '')
    .trim();
  const found = plainAuthor(field) ?? addressParser(field, { flatten: true })[0];
  if (!found) return null;
  // An address without a host is none to ENVELOPE (RFC 9051 §7.5.2).
  const address = found.address.includes('@') ? clean(found.address) : '';
  const author = mailbox(clean(decodeWords(found.name)), address);
  return author.name === '' && author.address === '' ? null : author;
}

/** One address, with or without a display name, as nearly all are written; undefined for every other form. */
function plainAuthor(field: string): { name: string; address: string } | undefined {
  if (PLAIN_ADDRESS.test(field)) return { name: '', address: field };
  const opens = field.indexOf('<');
  const address = field.slice(opens + 1, -1);
  if (opens < 0 || !field.endsWith('>') || !PLAIN_ADDRESS.test(address)) return undefined;
  const written = field.slice(0, opens).trimEnd();
  const isQuoted = written.length > 1 && written.startsWith('"') && written.endsWith('"');
  const name = isQuoted ? written.slice(1, -1) : written;
  return PLAIN_NAME.test(name) ? { name, address } : undefined;
}
