/** Letters that are mapped to a blank, and to nothing (RFC 3454, tables C.1.2 and B.1). */
const BLANKS = /[\u00a0\u1680\u2000-\u200b\u202f\u205f\u3000]/g;
const NOTHING = /\u00ad|\u034f|\u1806|[\u180b-\u180d]|\u200c|\u200d|\u2060|[\ufe00-\ufe0f]|\ufeff/g;

/**
 * Prepares a name or a password as SASLprep does (RFC 4013 §2.1 and §2.2): what is ASCII stays as it is. What SASLprep
 * prohibits is let through, since the server is the one to refuse it.
 */
export function prepared(text: string): string {
  return text.replace(NOTHING, '').replace(BLANKS, ' ').normalize('NFKC');
}
