import { useQuery } from '@tanstack/react-query';
import type { ActOfOther } from '../../contract/types';
import { ActTable } from '../../ui/ActTable';
import { useAccount, useFigures, useRuns } from '../../ui/api/account';
import { call } from '../../ui/api/call';
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
      <ActTable acts={others.acts} head={text.ledger.others.by} cell={({ by }) => by} timeOf={figures.dayAndTime} />
    </section>
  );
}
