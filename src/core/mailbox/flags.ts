/** The system flags of RFC 9051 §2.3.2 as bits of one integer, the form in which they are stored. */
export const FLAG_BITS = { seen: 1, answered: 2, flagged: 4, deleted: 8, draft: 16 } as const;

export type Flag = keyof typeof FLAG_BITS;

/** All of them, in the order of their bits. */
export const FLAGS = Object.keys(FLAG_BITS) as Flag[];

/**
 * Splits what a server lists into bits and keywords. Unknown flags that begin with a backslash are dropped, and what is
 * no atom of ASCII, since no keyword can be that (RFC 9051 §9).
 */
export function readFlags(listed: Iterable<string>): { bits: number; keywords: string[] } {
  let bits = 0;
  const keywords: string[] = [];
  for (const name of listed) {
    const flag = FLAGS.find((known) => name.toLowerCase() === `\\${known}`);
    if (flag) bits |= FLAG_BITS[flag];
    else if (/^[\x21-\x5b\x5d-\x7e]+$/.test(name)) keywords.push(name);
  }
  return { bits, keywords: keywords.sort() };
}

/** Names the flags in a stored integer, lower case without backslash. */
export function flagNames(bits: number): Flag[] {
  return FLAGS.filter((name) => (bits & FLAG_BITS[name]) !== 0);
}
