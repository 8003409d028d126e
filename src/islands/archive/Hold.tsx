import { Popover } from 'radix-ui';
import { type FormEvent, useState } from 'react';
import type { Bag } from '../../contract/types';
import { useChange } from '../../ui/api/account';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { ReasonField } from './ReasonField';

/** Holds a bag until a day, for a reason: nobody can delete it before. */
export function Hold({ bag }: { bag: Bag }) {
  const [open, setOpen] = useState(false);
  const [until, setUntil] = useState(bag.heldUntil ?? '');
  const [reason, setReason] = useState(bag.heldReason ?? '');
  const hold = useChange<void>(
    () => `/bags/${bag.id}/hold`,
    'POST',
    () => ({ until, reason }),
    ['bags'],
    () => setOpen(false),
  );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    hold.mutate();
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="link">{text.archive.hold}</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" sideOffset={4} aria-label={text.archive.hold} className="card z-20 w-72">
          <form className="grid gap-2" onSubmit={submit}>
            <p className="note">{text.archive.holdNote}</p>
            <label className="grid gap-1">
              {text.archive.heldUntil}
              <input
                type="date"
                className="field"
                required
                min={bag.heldUntil ?? undefined}
                value={until}
                onChange={({ target }) => setUntil(target.value)}
              />
            </label>
            <ReasonField value={reason} onChange={setReason} />
            <button type="submit" className="button button-chief" disabled={hold.isPending}>
              {text.archive.holdIt}
            </button>
            <Refused error={hold.error} />
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
