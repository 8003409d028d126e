import libmime from 'libmime';

/** Characters of a text of a header that are decoded; a hostile one may hold megabytes. */
const MAX_ENCODED_LENGTH = 24_000;

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
