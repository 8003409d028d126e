import { useMutation, useQuery } from '@tanstack/react-query';
import type { LedgerHead } from '../../contract/types';
import { useAccount, useRuns } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

/** The chain over the ledger: how long it is, its check, and its head to be kept elsewhere. */
export function LedgerCheck() {
  const { account, base } = useAccount();
  const runs = useRuns().dataUpdatedAt;
  const head = useQuery({
    queryKey: ['ledger-head', account.id, runs],
    queryFn: () => call<LedgerHead>(`${base}/ledger/head`),
  }).data;
  const check = useMutation({
    mutationFn: () => call<{ entries: number; faults: string[] }>(`${base}/ledger/check`),
  });
  if (!head || head.entries === 0) return null;
  return (
    <section className="note flex flex-wrap items-baseline gap-x-3 gap-y-1 px-1">
      <span>{text.ledger.chain(count(head.entries))}</span>
      <button type="button" className="link" disabled={check.isPending} onClick={() => check.mutate()}>
        {text.ledger.check}
      </button>
      <a className="link" href={`/api${base}/ledger/head`} download={`ledger-head-${head.entries}.json`}>
        {text.ledger.keepHead}
      </a>
      <span role="status">
        {check.data?.faults.length === 0 && text.ledger.checked}
        {check.error?.message}
      </span>
      {check.data && check.data.faults.length > 0 && (
        <ul role="alert" className="w-full text-go">
          {check.data.faults.map((fault) => (
            <li key={fault}>{fault}</li>
          ))}
        </ul>
      )}
    </section>
  );
}
