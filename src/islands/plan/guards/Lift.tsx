import type { FormEvent } from 'react';
import type { Guard } from '../../../contract/types';
import { OF_THE_PLAN, useChange } from '../../../ui/api/account';
import { Sheet } from '../../../ui/Sheet';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';

/** Asks why a hold may be lifted; the answer stays on record. */
export function Lift({ guard, open, onClose }: { guard: Guard; open: boolean; onClose(): void }) {
  const lift = useChange<string>(
    () => `/guards/${guard.id}/lift`,
    'POST',
    (reason) => ({ reason }),
    OF_THE_PLAN,
  );
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const reason = `${new FormData(event.currentTarget).get('reason') ?? ''}`.trim();
    if (reason !== '') lift.mutate(reason, { onSuccess: onClose });
  };
  return (
    <Sheet small title={text.guards.liftTitle} open={open} onClose={onClose}>
      <form onSubmit={submit} className="mt-3 grid gap-2">
        <label htmlFor="lift-reason" className="note">
          {text.guards.liftHelp}
        </label>
        <input
          id="lift-reason"
          name="reason"
          required
          maxLength={500}
          className="field"
          // biome-ignore lint/a11y/noAutofocus: a dialog that asks for one thing begins there
          autoFocus
        />
        <button type="submit" className="button button-chief justify-self-end" disabled={lift.isPending}>
          {text.guards.liftGo}
        </button>
        <Refused error={lift.error} />
      </form>
    </Sheet>
  );
}
