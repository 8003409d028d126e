/**
 * How lines of messages that begin with `From ` stand in an mbox file. The names are common practice, no source.
 *
 * - `none`: there is no such line, so that all are alike.
 * - `mboxo`: `From ` became `>From `, and what was `>From ` stayed. What was there can't be told.
 * - `mboxrd`: any number of `>` and `From ` got one `>` more. One is taken away, and what was there is back.
 * - `mboxcl`: as mboxo, and each message says how long it is.
 * - `mboxcl2`: nothing is quoted, and each message says how long it is.
 */
export const QUOTINGS = ['none', 'mboxo', 'mboxrd', 'mboxcl', 'mboxcl2'] as const;
export type Quoting = (typeof QUOTINGS)[number];

/** What the lines of an mbox file show. */
export interface QuotingSigns {
  /** Lines inside messages that begin with `From `. */
  plain: number;
  /** Lines that begin with `>` and then `From `. */
  quoted: number;
  /** Of these, those that stand behind a line with one `>` less, of at least one: they were one of its kind, and got one more. */
  oneMore: number;
  /** And those that stand behind a line with as many `>`: they got none. */
  asMany: number;
}

/** @param lengths whether each message says how long it is, and that holds. */
export function quotingOf({ plain, quoted, oneMore, asMany }: QuotingSigns, lengths: boolean): Quoting {
  if (lengths) return plain > 0 ? 'mboxcl2' : quoted > 0 ? 'mboxcl' : 'none';
  if (quoted === 0) return 'none';
  return oneMore > 0 && asMany === 0 ? 'mboxrd' : 'mboxo';
}

/** The value of Content-Length in a header, in octets; undefined where it has none that can be read. Common practice, no source. */
export function contentLengthOf(header: string): number | undefined {
  const found = /^content-length[ \t]*:[ \t]*(\d{1,15})[ \t]*\r?$/im.exec(header);
  return found ? Number(found[1]) : undefined;
}
