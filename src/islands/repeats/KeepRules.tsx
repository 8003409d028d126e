import { useState } from 'react';
import type { Settings } from '../../contract/types';
import { useAccount, useChange } from '../../ui/api/account';
import { REPEATS_STALE } from '../../ui/api/repeats';
import { Sheet } from '../../ui/Sheet';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';

/** The rules by which one copy stays, in an order that the person changes. */
export function KeepRules({ onClose }: { onClose(): void }) {
  const { settings } = useAccount();
  const [order, setOrder] = useState(settings.keepRules);
  const save = useChange<void, Settings>(
    () => '/settings',
    'PATCH',
    () => ({ keepRules: order }),
    ['settings', ...REPEATS_STALE],
    onClose,
  );
  const move = (at: number, by: -1 | 1) =>
    setOrder((before) => {
      const next = [...before];
      const [rule] = next.splice(at, 1);
      if (rule) next.splice(at + by, 0, rule);
      return next;
    });
  return (
    <Sheet open title={text.repeats.rules} onClose={onClose}>
      <p>{text.repeats.rulesNote}</p>
      <ol className="grid gap-1">
        {order.map((rule, at) => (
          <li key={rule} className="flex items-center gap-2 border-b border-hair py-1">
            <span className="w-5 text-right text-ink-2">{at + 1}</span>
            <span className="min-w-0 flex-1">{text.repeats.ruleNames[rule]}</span>
            <button
              type="button"
              className="button"
              aria-label={text.repeats.up(text.repeats.ruleNames[rule])}
              disabled={at === 0}
              onClick={() => move(at, -1)}
            >
              {text.repeats.earlier}
            </button>
            <button
              type="button"
              className="button"
              aria-label={text.repeats.down(text.repeats.ruleNames[rule])}
              disabled={at === order.length - 1}
              onClick={() => move(at, 1)}
            >
              {text.repeats.later}
            </button>
          </li>
        ))}
      </ol>
      <p className="note">{text.repeats.rulesGuards}</p>
      <div>
        <button type="button" className="button button-chief" disabled={save.isPending} onClick={() => save.mutate()}>
          {text.repeats.saveRules}
        </button>
      </div>
      <Refused error={save.error} />
    </Sheet>
  );
}
