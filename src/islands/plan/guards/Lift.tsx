import { Dialog } from 'radix-ui';
import type { FormEvent } from 'react';
import { OF_THE_PLAN, useChange } from '../../../ui/api/account';
import type { Guard } from '../../../ui/api/types';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import { useReturnFocus } from '../../../ui/useReturnFocus';

/** Asks why a hold may be lifted; the answer stays on record. */
export function Lift({ guard, open, onClose }: { guard: Guard; open: boolean; onClose(): void }) {
  const lift = useChange<string>(
    () => `/guards/${guard.id}/lift`,
    'POST',
    (reason) => ({ reason }),
    OF_THE_PLAN,
  );
  const focus = useReturnFocus(open);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const reason = `${new FormData(event.currentTarget).get('reason') ?? ''}`.trim();
    if (reason !== '') lift.mutate(reason, { onSuccess: onClose });
  };
  return (
    <Dialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-ink/20" />
        <Dialog.Content
          {...focus}
          aria-describedby={undefined}
          className="card fixed top-1/3 left-1/2 z-30 w-[min(420px,92vw)] -translate-x-1/2 p-5"
        >
          <Dialog.Title className="text-[15px] font-semibold">{text.guards.liftTitle}</Dialog.Title>
          <form onSubmit={submit} className="mt-3 grid gap-2">
            <label htmlFor="lift-reason" className="note">
              {text.guards.liftHelp}
            </label>
            <input id="lift-reason" name="reason" required maxLength={500} className="field" />
            <button type="submit" className="button button-chief justify-self-end" disabled={lift.isPending}>
              {text.guards.liftGo}
            </button>
            <Refused error={lift.error} />
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
