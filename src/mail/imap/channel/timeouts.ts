/** Milliseconds that commands are waited for without anything of their answer; what a server says besides does not count. */
export interface Patience {
  /** What a server answers from what it has at hand. */
  plain: number;
  /** Opening a large folder may have it read anew. */
  open: number;
  /** A text is looked for in every message. */
  search: number;
  /** What moves many messages, of which most servers say nothing until it is done. */
  change: number;
}

/** @param seconds for what is plain; the others get a multiple of it. */
export function patienceOf(seconds: number): Patience {
  const plain = seconds * 1_000;
  return { plain, open: 2.5 * plain, search: 5 * plain, change: 7.5 * plain };
}
