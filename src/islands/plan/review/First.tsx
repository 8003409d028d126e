import { useMemo } from 'react';
import { OF_THE_PLAN, useChange, useFigures, usePlan } from '../../../ui/api/account';
import { useAsked } from '../../../ui/columns/useAsked';
import { useDetails } from '../../../ui/messages/useDetails';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import type { Doubtful } from '../../../workers/protocol';

/** The messages of the plan where a mistake would hurt: those with the most evidence for keeping, and the largest. */
export function First() {
  const plan = usePlan().data;
  const { data } = useAsked('doubtful', plan);
  const ids = useMemo(() => (data ? [...data.doubtful, ...data.largest].map(({ id }) => id) : []), [data]);
  const details = useDetails(ids);
  if (!data || data.doubtful.length === 0) return null;
  return (
    <section className="card min-w-0">
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-2">
        <h2>{text.review.first}</h2>
        <p className="note">{text.review.firstNote}</p>
      </div>
      <Few title={text.review.byEvidence} rows={data.doubtful} subjectOf={(id) => details.get(id)?.subject} />
      <Few title={text.review.byLargest} rows={data.largest} subjectOf={(id) => details.get(id)?.subject} />
    </section>
  );
}

const REASONS_SHOWN = 3;

function Few({
  title,
  rows,
  subjectOf,
}: {
  title: string;
  rows: Doubtful[];
  subjectOf(id: number): string | undefined;
}) {
  const { octets, day } = useFigures();
  const keep = useChange<number>(
    () => '/plan/except',
    'POST',
    (id) => ({ ids: [id] }),
    OF_THE_PLAN,
  );
  return (
    <>
      <h3 className="note mt-2">{title}</h3>
      <Refused error={keep.error} />
      <ul>
        {rows.map(({ id, size, date, name, address, evidence, reasons }) => {
          const subject = subjectOf(id);
          return (
            <li key={id} className="doubtful">
              <span className="text-right">{evidence}</span>
              <span className="truncate">{name || address || text.sift.noSender}</span>
              <span className="min-w-0">
                <span className="block truncate">{subject === undefined ? '…' : subject || text.sift.noSubject}</span>
                <span className="note block truncate">
                  {reasons
                    .slice(0, REASONS_SHOWN)
                    .map(({ reason, number }) => text.senders.reasons[reason](number))
                    .join('; ')}
                </span>
              </span>
              <span className="text-right whitespace-nowrap">{octets(size)}</span>
              <span className="minor text-ink-2">{day(new Date(date * 1000).toISOString())}</span>
              <button
                type="button"
                className="link"
                disabled={keep.isPending}
                aria-label={`${text.review.keepIt}: ${subject ?? ''}`}
                onClick={() => keep.mutate(id)}
              >
                {text.review.keepIt}
              </button>
            </li>
          );
        })}
      </ul>
    </>
  );
}
