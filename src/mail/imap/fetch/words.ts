import libmime from 'libmime';
import { oneLine } from '../../../core/text';

/** Longest text kept of a field; a hostile header may hold megabytes. */
const LONGEST = 2_000;

/** Decodes encoded words (RFC 2047) where there are any; what the library can't is left as it stands. */
export function decodeWords(text: string): string {
  if (!text.includes('=?')) return text;
  try {
    return libmime.decodeWords(text);
  } catch {
    return text;
  }
}

/** Decodes octets of a charset; of one that nobody knows each octet is a letter. */
export function decodeCharset(octets: Buffer, charset: string): string {
  try {
    return new TextDecoder(charset).decode(octets);
  } catch {
    return octets.toString('latin1');
  }
}

/** Makes of a text of a header what is kept of it. */
export function kept(text: string | null, longest = LONGEST): string {
  return text === null ? '' : oneLine(text.length > longest ? text.slice(0, longest) : text);
}
