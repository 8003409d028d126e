import libmime from 'libmime';
import { oneLine } from '../../../core/text';

/** Longest text kept of a field; a hostile header may hold megabytes. */
const MAX_LENGTH = 2_000;

/** Characters of a text that are decoded: enough for what is kept, in whatever way it is encoded. */
const MAX_ENCODED_LENGTH = 12 * MAX_LENGTH;

/** Decodes encoded words (RFC 2047) where there are any; what the library can't is left as it stands. */
export function decodeWords(text: string): string {
  const read = text.slice(0, MAX_ENCODED_LENGTH);
  if (!read.includes('=?')) return read;
  try {
    return libmime.decodeWords(read);
  } catch {
    return read;
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
export function clean(text: string | null, longest = MAX_LENGTH): string {
  return text === null ? '' : oneLine(text.length > longest ? text.slice(0, longest) : text);
}
