declare module 'imapflow/lib/special-use.js' {
  /** @param marked whether the server marks folders by attributes (RFC 6154). */
  export function specialUse(
    marked: boolean,
    folder: { name: string; flags: ReadonlySet<string> },
  ): { flag: string | null };
}
