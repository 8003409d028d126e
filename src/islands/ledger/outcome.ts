import type { Run } from '../../contract/types';
import { balance } from '../../core/ledger/balance';
import { text } from '../../ui/text';

/** What became of the level, in a sentence: expected against what the server's figure says. */
export function outcomeOf(
  run: Run,
  figures: { octets(bytes: number): string; dayAndTime(at: string): string },
): string {
  const { before, after, settled, action } = run;
  if (!before || !after) return '';
  if (action === 'put-back') return text.ledger.nowMore;
  if (action !== 'purge') return text.ledger.nothingWon;
  const { expected, reported, reasons } = balance({ won: run.done.bytes, before, after, settled });
  if (reported === null) return text.ledger.noQuota(figures.octets(expected));
  const lags = reasons.some(({ reason }) => reason === 'lag' || reason === 'once');
  if (!lags) return text.ledger.settled;
  return settled
    ? text.ledger.followed(figures.dayAndTime(settled.at))
    : text.ledger.waiting(figures.octets(expected), figures.octets(reported));
}
