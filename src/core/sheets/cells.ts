/** Cells that begin so are run as a formula, or were made harmless by a leading apostrophe. */
const ACTIVE = /^['=+\-@\t\r\n\uff1d\uff0b\uff0d\uff20]/;

/** Neutralises a formula with an apostrophe, and doubles one that is there, so that taking one away restores it. */
export function escapeFormula(cell: string): string {
  return ACTIVE.test(cell) ? `'${cell}` : cell;
}

/** Undoes escapeFormula. */
export function unescapeFormula(cell: string): string {
  return cell.startsWith("'") ? cell.slice(1) : cell;
}
