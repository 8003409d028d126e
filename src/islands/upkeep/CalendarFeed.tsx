import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';

/** The dates of standing lots as a feed, which a calendar program shows. */
export function CalendarFeed() {
  const { account, base } = useAccount();
  const { day } = useFigures();
  const [path, setPath] = useState<string>();
  const { data } = useQuery({
    queryKey: ['calendar', account.id],
    queryFn: () => call<{ madeAt: string | null }>(`${base}/calendar`),
  });
  const make = useChange<void, { path: string }>(
    () => '/calendar',
    'POST',
    () => undefined,
    ['calendar'],
    (made) => setPath(made.path),
  );
  const end = useChange<void>(
    () => '/calendar',
    'DELETE',
    () => undefined,
    ['calendar'],
    () => setPath(undefined),
  );
  const madeAt = data?.madeAt ?? null;
  return (
    <section className="card max-w-xl self-start" aria-labelledby="calendar">
      <h2 id="calendar" className="font-semibold">
        {text.calendar.title}
      </h2>
      <p className="note mt-1">{text.calendar.note}</p>
      {path && (
        <p className="mt-2 font-mono text-[12px] wrap-anywhere" role="status">
          {`${window.location.origin}${path}`}
          <span className="note block font-sans">{text.calendar.once}</span>
        </p>
      )}
      {madeAt && !path && <p className="mt-2">{text.calendar.since(day(madeAt))}</p>}
      <div className="mt-2 flex flex-wrap gap-x-4 gap-y-1">
        <button type="button" className="link" disabled={make.isPending} onClick={() => make.mutate()}>
          {madeAt ? text.calendar.again : text.calendar.make}
        </button>
        {madeAt && (
          <button type="button" className="link" disabled={end.isPending} onClick={() => end.mutate()}>
            {text.calendar.end}
          </button>
        )}
      </div>
      <Refused error={make.error ?? end.error} />
    </section>
  );
}
