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

/** Flags and keywords of a message, or some of them. */
export interface FlagSet {
  flags: number;
  keywords: readonly string[];
}

/** Flags that go with a message to another folder: all but \Deleted. Clients can't set \Recent. */
export const LASTING_FLAGS = FLAG_BITS.seen | FLAG_BITS.answered | FLAG_BITS.flagged | FLAG_BITS.draft;

/** Flags that were added and removed between two states; null if none. If `from` is unknown, all of `to` counts as added. */
export function flagChanges(from: FlagSet | undefined, to: FlagSet): { added: FlagSet; removed: FlagSet } | null {
  const before = from ?? { flags: 0, keywords: [] };
  const added = minus(to, before);
  const removed = minus(before, to);
  return isEmpty(added) && isEmpty(removed) ? null : { added, removed };
}

export function isEmpty({ flags, keywords }: FlagSet): boolean {
  return flags === 0 && keywords.length === 0;
}

/** Keywords are the same in any letter case (RFC 9051 §2.3.2). */
function minus(from: FlagSet, taken: FlagSet): FlagSet {
  const names = new Set(taken.keywords.map((keyword) => keyword.toLowerCase()));
  return {
    flags: from.flags & ~taken.flags & LASTING_FLAGS,
    keywords: from.keywords.filter((keyword) => !names.has(keyword.toLowerCase())),
  };
}
