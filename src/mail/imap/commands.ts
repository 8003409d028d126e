import type { SearchKey } from '../../core/criteria/imap';
import { type FlagSet, flagNames } from '../../core/mailbox/flags';

/** A piece of a command: text, or an octet string that goes as a literal. */
export type Piece = string | Buffer;

/** A string in the shortest form that can carry it: quoted, or a literal (RFC 9051 §4.3). @param octets one a character. */
export function astring(octets: string): Piece {
  if (/^[\x20-\x7e]*$/.test(octets)) return `"${octets.replace(/["\\]/g, '\\$&')}"`;
  return Buffer.from(octets, 'latin1');
}

/** Joins the pieces of a command, so that no text follows another. */
export function joined(...pieces: readonly Piece[]): Piece[] {
  const whole: Piece[] = [];
  for (const piece of pieces) {
    const last = whole.at(-1);
    if (typeof piece === 'string' && typeof last === 'string') whole[whole.length - 1] = last + piece;
    else whole.push(piece);
  }
  return whole;
}

/** The keys of a search, each behind a blank. */
export function searchKeys(keys: readonly SearchKey[]): Piece[] {
  return keys.flatMap((key): Piece[] => {
    if (typeof key === 'string') return [` ${key}`];
    if ('string' in key) return [' ', astring(Buffer.from(key.string, 'utf8').toString('latin1'))];
    const [first, ...rest] = searchKeys(key);
    return [` (${(first as string).trimStart()}`, ...rest, ')'];
  });
}

/** Whether keys hold nothing but ASCII, so that no charset has to be named. */
export function isAscii(keys: readonly SearchKey[]): boolean {
  return keys.every((key) => {
    if (typeof key === 'string') return true;
    return 'string' in key ? /^[\x20-\x7e]*$/.test(key.string) : isAscii(key);
  });
}

/** Flags as a command lists them, without the parentheses. Keywords are atoms: `readFlags` drops what is none. */
export function flagWords({ flags, keywords }: FlagSet): string {
  return [...flagNames(flags).map((name) => `\\${name}`), ...keywords].join(' ');
}
