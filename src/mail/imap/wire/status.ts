/** A status response (RFC 9051 §7.1). */
export interface Status {
  kind: 'OK' | 'NO' | 'BAD' | 'BYE' | 'PREAUTH';
  /** The word of the response code, upper case; '' where there is none. */
  code: string;
  /** What follows the word inside the brackets. */
  details: string;
  /** For a person. */
  words: string;
}

const KINDS: ReadonlySet<string> = new Set(['OK', 'NO', 'BAD', 'BYE', 'PREAUTH']);

/** Text that is kept of a status, so that no sentence on a page is a megabyte long. */
const MAX_WORDS = 300;

/**
 * Reads what follows the word of a status response; each octet is looked at once or twice, however it is written.
 *
 * @param text gives it, asked only where the word is a status.
 * @returns undefined where the word is none.
 */
export function readStatus(word: string, text: () => string): Status | undefined {
  if (!KINDS.has(word)) return undefined;
  const said = text().trimStart();
  const kind = word as Status['kind'];
  const end = said.startsWith('[') ? said.indexOf(']') : -1;
  if (end < 0) return { kind, code: '', details: '', words: shown(said) };
  const inside = said.slice(1, end);
  const blank = inside.indexOf(' ');
  return {
    kind,
    code: (blank < 0 ? inside : inside.slice(0, blank)).toUpperCase(),
    details: blank < 0 ? '' : inside.slice(blank + 1),
    words: shown(said.slice(end + 1)),
  };
}

function shown(words: string): string {
  return Buffer.from(words.slice(0, MAX_WORDS), 'latin1').toString('utf8').trim();
}
