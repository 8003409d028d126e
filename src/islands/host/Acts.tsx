import { useQuery } from '@tanstack/react-query';
import type { HostAct } from '../../contract/types';
import { ActTable } from '../../ui/ActTable';
import { call } from '../../ui/api/call';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import { count, dayAndTime } from '../../ui/text/format';
import { Name } from './columns';
import { useOperator } from './useHost';

/** What the operator did in mailboxes, as the ledgers of these tell it. */
export function Acts() {
  const { id, base } = useOperator();
  const acts = useQuery({
    queryKey: ['host-acts', id],
    queryFn: () => call<{ acts: HostAct[]; total: number }>(`${base}/acts`),
  });
  if (acts.error) return <Failed error={acts.error} retry={() => void acts.refetch()} />;
  if (!acts.data) return <Loading />;
  const { timeZone } = Intl.DateTimeFormat().resolvedOptions();
  const { acts: shown, total } = acts.data;
  return (
    <section className="card">
      <h2>{text.host.acts.title}</h2>
      <p className="note mb-2">
        {text.host.acts.note} {total > shown.length && text.ledger.others.newest(count(shown.length))}
      </p>
      {shown.length === 0 ? (
        <p className="py-4 text-ink-2">{text.host.acts.none}</p>
      ) : (
        <ActTable
          acts={shown}
          head={text.host.heads.mailbox}
          cell={({ user }) => <Name of={user} />}
          timeOf={(instant) => dayAndTime(instant, timeZone)}
        />
      )}
    </section>
  );
}
