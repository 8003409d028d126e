import { useQueryClient } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import type { GroupingKind } from '../../core/senders/grouping';
import { OF_THE_PLAN, useAccount, useDecisions } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { nameOfSender } from './sender';

/** A sender to decide on, and how its lot is called. */
export interface Decidable {
  by: GroupingKind;
  key: string;
  label: string;
}

interface Step {
  where: string;
  decisions: (Decidable & { decision: string })[];
}

/**
 * What was decided, the way to decide, and the way back, step by step. A decision shows at once and is sent behind those
 * before it, so that quick keys neither wait nor are lost; the plan is read again when the last has arrived.
 */
export function useVerdicts(where: string) {
  const { account, base } = useAccount();
  const client = useQueryClient();
  const stored = useDecisions().data?.decisions ?? [];
  /** Decisions on their way, by sender; '' is taken back. */
  const [sending, setSending] = useState<ReadonlyMap<string, string>>(new Map());
  const [error, setError] = useState<Error | null>(null);
  /** What stood before each step, so that it can be put back. */
  const steps = useRef<Step[]>([]);
  const queue = useRef({ last: Promise.resolve(), waiting: 0 });
  const shown = new Map(stored.map((decision) => [nameOfSender(decision), decision.decision]));
  for (const [name, decision] of sending) shown.set(name, decision);
  const latest = useRef(shown);
  latest.current = shown;

  const send = (step: Step) => {
    setError(null);
    const changed = step.decisions.map((one) => [nameOfSender(one), one.decision] as const);
    // Read by the next key before anything is drawn again.
    latest.current = new Map([...latest.current, ...changed]);
    setSending((now) => new Map([...now, ...changed]));
    queue.current.waiting++;
    queue.current.last = queue.current.last.then(async () => {
      try {
        await call(`${base}/decisions`, { method: 'POST', body: step });
      } catch (failure) {
        setError(failure instanceof Error ? failure : new Error(String(failure)));
      }
      if (--queue.current.waiting > 0) return;
      await Promise.all(OF_THE_PLAN.map((key) => client.invalidateQueries({ queryKey: [key, account.id] })));
      if (queue.current.waiting === 0) setSending(new Map());
    });
  };
  const decide = (senders: readonly Decidable[], decision: string) => {
    const named = senders.map(({ label, ...sender }) => ({
      ...sender,
      label: (label || sender.key || '–').slice(0, 150),
    }));
    const before = named.map((sender) => ({ ...sender, decision: latest.current.get(nameOfSender(sender)) ?? '' }));
    steps.current.push({ where, decisions: before });
    send({ where, decisions: named.map((sender) => ({ ...sender, decision })) });
  };
  /** Takes the last step back; gives what it was about. */
  const undo = (): readonly Decidable[] => {
    const last = steps.current.pop();
    if (!last) return [];
    send(last);
    return last.decisions;
  };
  return { decisions: shown, decide, undo, canUndo: steps.current.length > 0, error };
}
