import { FLAG_BITS } from '../mailbox/flags';
import { fieldsOf } from '../mime/fields';

const LETTERS: Readonly<Record<string, number>> = {
  R: FLAG_BITS.seen,
  A: FLAG_BITS.answered,
  F: FLAG_BITS.flagged,
  T: FLAG_BITS.draft,
  D: FLAG_BITS.deleted,
};

/**
 * The flags that programs write into the header of a message in a file: Status (R read, O old) and X-Status (A answered, F flagged,
 * T draft, D deleted). Common practice, no source.
 *
 * @returns bits of core/mailbox/flags; undefined where the header has neither field.
 */
export function statusFlags(header: string): number | undefined {
  const found = fieldsOf(header).filter(({ name }) => name === 'status' || name === 'x-status');
  if (found.length === 0) return undefined;
  const letters = found.flatMap(({ value }) => [...value.slice(0, 20).toUpperCase()]);
  return letters.reduce((bits, letter) => bits | (LETTERS[letter] ?? 0), 0);
}
