import addressParser from 'nodemailer/lib/addressparser/index.js';
import { type Mailbox, mailbox } from '../../../core/senders/address';
import { decodeWords, kept } from './words';

/** One address, with or without a display name that holds nothing that would have to be quoted. */
const PLAIN =
  /^(?:"?([^"<>,;:()\\]*?)"? *<([^<>@\s,;:()"\\]+@[^<>@\s,;:()"\\]+)>|([^<>@\s,;:()"\\]+@[^<>@\s,;:()"\\]+))$/;

/**
 * Reads the first author out of a header that holds From and nothing else (RFC 5322 §3.6.2), as ENVELOPE would tell it.
 *
 * @returns null where there is none.
 */
export function readAuthor(header: string): Mailbox | null {
  const colon = header.indexOf(':');
  if (colon < 0) return null;
  const field = header
    .slice(colon + 1)
    .replace(/\r?\n(?=[ \t])/g, '')
    .trim();
  const plain = PLAIN.exec(field);
  const found = plain
    ? { name: plain[1] ?? '', address: plain[2] ?? plain[3] ?? '' }
    : addressParser(field, { flatten: true })[0];
  if (!found) return null;
  // An address without a host is none to ENVELOPE (RFC 9051 §7.5.2).
  const address = found.address.includes('@') ? kept(found.address) : '';
  const author = mailbox(kept(decodeWords(found.name)), address);
  return author.name === '' && author.address === '' ? null : author;
}
