import type { Run } from '../../ui/api/types';
import { text } from '../../ui/text';

/** The server counts in units of 1024 octets (RFC 9208 §5.1), each end rounded: figures that differ by less agree. */
const UNIT = 1024;

/** What became of the level, in a sentence: expected against what the server's figure says. */
export function outcomeOf(run: Run, octets: (bytes: number) => string): string {
  const { before, after, action } = run;
  if (!before || !after) return '';
  if (action !== 'purge') return text.ledger.nothingWon;
  const counted = before.counted - after.counted;
  if (before.used === null || after.used === null) return text.ledger.noQuota(octets(counted));
  const moved = before.used - after.used;
  return Math.abs(moved - counted) <= UNIT ? text.ledger.settled : text.ledger.waiting(octets(counted), octets(moved));
}
