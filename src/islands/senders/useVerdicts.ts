import { useState } from 'react';
import type { GroupingKind } from '../../core/senders/grouping';
import { OF_THE_PLAN, useChange, useDecisions } from '../../ui/api/account';
import type { Amount } from '../../ui/api/types';
import { nameOfSender } from './sender';

/** A sender to decide on, and how its lot is called. */
export interface Decidable {
  by: GroupingKind;
  key: string;
  label: string;
}

interface Wanted {
  where: string;
  decisions: (Decidable & { decision: string })[];
}

/** What was decided, the way to decide, and the way back, step by step. */
export function useVerdicts(where: string) {
  const known = useDecisions().data?.decisions ?? [];
  const decisions = new Map(known.map((decision) => [nameOfSender(decision), decision]));
  /** What stood before each step, so that it can be put back. */
  const [steps, setSteps] = useState<Wanted[]>([]);
  const change = useChange<Wanted, { total: Amount }>(
    () => '/decisions',
    'POST',
    (wanted) => wanted,
    OF_THE_PLAN,
  );
  const decide = (senders: readonly Decidable[], decision: string) => {
    const before = senders.map((sender) => ({
      ...sender,
      decision: decisions.get(nameOfSender(sender))?.decision ?? '',
    }));
    const label = (sender: Decidable) => (sender.label || sender.key || '–').slice(0, 150);
    change.mutate(
      { where, decisions: senders.map((sender) => ({ ...sender, label: label(sender), decision })) },
      { onSuccess: () => setSteps((now) => [...now, { where, decisions: before }]) },
    );
  };
  /** Takes the last step back; gives what it was about. */
  const undo = (): readonly Decidable[] => {
    const last = steps.at(-1);
    if (!last) return [];
    change.mutate(last, { onSuccess: () => setSteps((now) => now.slice(0, -1)) });
    return last.decisions;
  };
  return { decisions, decide, undo, canUndo: steps.length > 0, pending: change.isPending, error: change.error };
}
