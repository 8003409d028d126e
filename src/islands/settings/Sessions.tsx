import { useQuery } from '@tanstack/react-query';
import type { Session } from '../../contract/types';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { ago } from '../../ui/text/format';

/** The sessions that are signed in to the mailbox, each of which can be ended from here. */
export function Sessions() {
  const { account, base } = useAccount();
  const { day } = useFigures();
  const { data } = useQuery({
    queryKey: ['sessions', account.id],
    queryFn: () => call<{ sessions: Session[] }>(`${base}/sessions`),
  });
  const end = useChange<number>(
    (id) => `/sessions/${id}`,
    'DELETE',
    () => undefined,
    ['sessions'],
  );
  return (
    <section className="mt-6 border-line border-t pt-4">
      <h3 className="mb-2 font-semibold">{text.sessions.title}</h3>
      <ul className="grid grid-cols-[minmax(0,1fr)] gap-1">
        {(data?.sessions ?? []).map(({ id, agent, since, seenAt, isOwn }) => (
          <li key={id} className="flex items-baseline gap-x-3">
            <span className="min-w-0 flex-1">
              <span className="block truncate" title={agent}>
                {agent || text.sessions.unknown}
              </span>
              <span className="note">{text.sessions.since(day(since), ago(seenAt))}</span>
            </span>
            {isOwn ? (
              <strong>{text.sessions.own}</strong>
            ) : (
              <button
                type="button"
                className="button"
                disabled={end.isPending}
                onClick={() => end.mutate(id)}
                aria-label={text.sessions.endNamed(agent || text.sessions.unknown)}
              >
                {text.sessions.end}
              </button>
            )}
          </li>
        ))}
      </ul>
      <Refused error={end.error} />
    </section>
  );
}
