import { Popover } from 'radix-ui';
import { type FormEvent, useState } from 'react';
import type { RetentionState } from '../../contract/types';
import { useChange, useFigures } from '../../ui/api/account';
import { useRetention } from '../../ui/api/archive';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { ReasonField } from './ReasonField';

/** Every message of the last years is saved under a hold every night: who needs it by law says so here. */
export function Retention() {
  const { octets, dayAndTime } = useFigures();
  const { data, error } = useRetention();
  const end = useChange<void>(
    () => '/retention',
    'DELETE',
    () => undefined,
    ['retention'],
  );
  if (!data) return <Refused error={error} />;
  const { retention, kept } = data;
  return (
    <div className="mt-3 grid gap-1 border-t border-hair pt-3">
      <div className="flex flex-wrap items-baseline justify-between gap-x-3">
        <h3 className="font-semibold">{text.archive.retention}</h3>
        {!retention && <Change state={data} />}
      </div>
      {retention ? (
        <>
          <p>
            {text.archive.retentionIs(
              retention.years,
              text.messages(kept.messages, count(kept.messages)),
              octets(kept.bytes),
            )}
          </p>
          <p className="note">
            {retention.lastAt
              ? text.archive.retentionLast(dayAndTime(retention.lastAt), dayAndTime(retention.nextAt))
              : text.archive.retentionFirst}
          </p>
          {retention.problem && <p className="text-go">{retention.problem.detail}</p>}
          <span>
            <Change state={data} />
            {' · '}
            <button type="button" className="link" disabled={end.isPending} onClick={() => end.mutate()}>
              {text.archive.retentionEnd}
            </button>
          </span>
          <Refused error={end.error} />
        </>
      ) : (
        kept.messages > 0 && (
          <p className="note">
            {text.archive.retentionKept(text.messages(kept.messages, count(kept.messages)), octets(kept.bytes))}
          </p>
        )
      )}
    </div>
  );
}

function Change({ state: { retention } }: { state: RetentionState }) {
  const [open, setOpen] = useState(false);
  const [years, setYears] = useState(retention?.years ?? 10);
  const [reason, setReason] = useState(retention?.reason ?? '');
  const begin = useChange<void>(
    () => '/retention',
    'POST',
    () => ({ years, reason }),
    ['retention'],
    () => setOpen(false),
  );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    begin.mutate();
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="link">
        {retention ? text.archive.retentionChange : text.archive.retentionBegin}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          aria-label={text.archive.retention}
          className="card z-20 w-80 max-w-[94vw]"
        >
          <form className="grid gap-2" onSubmit={submit}>
            <p className="note">
              {text.archive.retentionOff} {text.archive.retentionNote}
            </p>
            <label className="grid gap-1">
              {text.archive.retentionYears}
              <input
                type="number"
                className="field"
                required
                min={1}
                max={100}
                value={years}
                onChange={({ target }) => setYears(target.valueAsNumber)}
              />
            </label>
            <ReasonField value={reason} onChange={setReason} />
            <button type="submit" className="button button-chief" disabled={begin.isPending}>
              {text.archive.retentionDo}
            </button>
            <Refused error={begin.error} />
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
