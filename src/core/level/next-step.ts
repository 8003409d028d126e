/** What somebody with an empty plan does next. Amounts are all octets, or all messages. */
export type NextStep =
  /** Nothing is known yet of what fills the mailbox. */
  | { kind: 'wait' }
  /** Who fills it is known, the rest is being read. */
  | { kind: 'look'; rest: number }
  | { kind: 'set-target' }
  /** It is as empty as it is to be; shares of the limit. */
  | { kind: 'nothing'; share: number; target: number }
  /** The trash holds what has to go. */
  | { kind: 'purge'; free: number }
  /** The trash holds a part of it. */
  | { kind: 'purge-first'; free: number; rest: number }
  | { kind: 'choose'; rest: number };

/**
 * The next step.
 *
 * @param used what counts, the trash with it.
 * @param target what may be used; null where no limit is known.
 * @param purgeable what lies in the trash and no guard keeps.
 * @param reading what a first scan reads: sizes and senders, or the rest; null where it is through.
 */
export function nextStep(state: {
  used: number;
  limit: number | null;
  target: number | null;
  purgeable: number;
  reading: 'outline' | 'details' | null;
}): NextStep {
  const { used, limit, target, purgeable, reading } = state;
  if (reading === 'outline') return { kind: 'wait' };
  if (target === null) return { kind: 'set-target' };
  const most = limit ?? target;
  if (used <= target) return { kind: 'nothing', share: used / most, target: target / most };
  if (reading === 'details') return { kind: 'look', rest: used - target };
  const rest = used - target - purgeable;
  if (purgeable > 0)
    return rest <= 0 ? { kind: 'purge', free: purgeable } : { kind: 'purge-first', free: purgeable, rest };
  return { kind: 'choose', rest };
}
