import { categoryNumber } from '../categories/categories';
import { type Columns, SOLE_DOCUMENT } from '../columns/columns';
import { messageEvidence } from '../evidence/evidence';
import { FLAG_BITS } from '../mailbox/flags';
import { fold } from '../text';
import { groupRows } from './grouping';
import { type GroupKnowledge, knowledgeOf } from './ranking';

/** What is known of everybody: by address as author, and as whom the user wrote to. */
export interface People {
  authors: GroupKnowledge;
  recipients: GroupKnowledge;
}

/**
 * Tells what is known of authors and recipients.
 *
 * @param scope one octet a row, 0 where it is left out.
 * @param now seconds.
 */
export function peopleOf(columns: Columns, scope: Uint8Array, now: number): People {
  const authors = knowledgeOf(columns, groupRows(columns, 'address'), scope, now);
  const letters = lettersFrom(columns, scope);
  return { authors, recipients: knowledgeOf(columns, groupRows(columns, 'recipient'), scope, now, letters) };
}

/** Letters by the folded address of their author. */
export function lettersFrom(columns: Columns, scope: Uint8Array): ReadonlyMap<string, number> {
  const letters = categoryNumber('letters');
  const counts = new Uint32Array(columns.dictionaries.author.address.length);
  for (let row = 0; row < columns.length; row++) {
    if (scope[row] === 0 || columns.category[row] !== letters) continue;
    const code = columns.author[row] as number;
    counts[code] = (counts[code] as number) + 1;
  }
  const found = new Map<string, number>();
  for (const [code, address] of columns.dictionaries.author.address.entries()) {
    const key = fold(address);
    found.set(key, (found.get(key) ?? 0) + (counts[code] as number));
  }
  return found;
}

/**
 * Evidence of every message, 0 to 1: that of its author with what the message itself shows; of the user's own mail that
 * of the recipient with the most.
 */
export function rowEvidence(columns: Columns, { authors, recipients }: People): Float64Array {
  const evidence = new Float64Array(columns.length);
  for (let row = 0; row < columns.length; row++) {
    const to = mostOf(recipients, row);
    const sender = to >= 0 ? to : Math.max(0, mostOf(authors, row));
    const flags = columns.flags[row] as number;
    evidence[row] = messageEvidence(sender, {
      flagged: (flags & FLAG_BITS.flagged) !== 0,
      answered: (flags & FLAG_BITS.answered) !== 0,
      soleDocument: ((columns.signs[row] as number) & SOLE_DOCUMENT) !== 0,
    });
  }
  return evidence;
}

/** The most evidence of the groups of a row; −1 where it is in none. */
function mostOf({ grouping, evidence }: GroupKnowledge, row: number): number {
  let most = -1;
  for (let at = grouping.starts[row] as number; at < (grouping.starts[row + 1] as number); at++)
    most = Math.max(most, evidence[grouping.members[at] as number] as number);
  return most;
}
