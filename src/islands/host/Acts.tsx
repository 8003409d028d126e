import { useQuery } from '@tanstack/react-query';
import type { HostAct } from '../../contract/types';
import { messagesOfAct, saidOfAct } from '../../ui/acts';
import { call } from '../../ui/api/call';
import { Heads } from '../../ui/Heads';
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
        <div className="overflow-x-auto">
          <table className="table">
            <Heads
              of={[
                [text.ledger.when],
                [text.host.heads.mailbox],
                [text.ledger.what],
                [text.ledger.others.messages, 'number'],
              ]}
            />
            <tbody>
              {shown.map((act) => (
                <tr key={`${act.user} ${act.at} ${act.what} ${act.run}`}>
                  <td className="text-ink-2 whitespace-nowrap">{dayAndTime(act.at, timeZone)}</td>
                  <td className="max-w-64 wrap-anywhere">
                    <Name of={act.user} />
                  </td>
                  <td className="wrap-anywhere">
                    {saidOfAct(act)}
                    {!act.sound && (
                      <strong role="alert" className="block text-go">
                        {text.ledger.doubt.broken}
                      </strong>
                    )}
                  </td>
                  <td className="number">{messagesOfAct(act)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
