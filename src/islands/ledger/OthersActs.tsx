import { useQuery } from '@tanstack/react-query';
import type { ActOfOther } from '../../contract/types';
import { messagesOfAct, saidOfAct } from '../../ui/acts';
import { useAccount, useFigures, useRuns } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { Heads } from '../../ui/Heads';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

/** Who opened this mailbox for its owner, why, and what they did. */
export function OthersActs() {
  const { account, base } = useAccount();
  const figures = useFigures();
  const runs = useRuns().dataUpdatedAt;
  const others = useQuery({
    queryKey: ['ledger-others', account.id, runs],
    queryFn: () => call<{ acts: ActOfOther[]; total: number }>(`${base}/ledger/others`),
  }).data;
  if (!others || others.total === 0) return null;
  const openings = others.acts.filter(({ what }) => what === 'opened').length;
  return (
    <section className="card">
      <h2>{account.signInAs === '' ? text.ledger.others.title : text.ledger.others.ownTitle(account.signInAs)}</h2>
      <p className="note mb-1">
        {text.ledger.others.openings(openings)}
        {others.total > others.acts.length && ` ${text.ledger.others.newest(count(others.acts.length))}`}
      </p>
      <div className="overflow-x-auto">
        <table className="table">
          <Heads
            of={[
              [text.ledger.when],
              [text.ledger.others.by],
              [text.ledger.what],
              [text.ledger.others.messages, 'number'],
            ]}
          />
          <tbody>
            {others.acts.map((act) => (
              <tr key={`${act.at} ${act.what} ${act.run}`}>
                <td className="text-ink-2 whitespace-nowrap">{figures.dayAndTime(act.at)}</td>
                <td className="max-w-56 wrap-anywhere">{act.by}</td>
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
    </section>
  );
}
