import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import type { FullWarning } from '../../contract/types';
import { useAccount, useFigures, useScan } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { Sheet } from '../../ui/Sheet';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { percent } from '../../ui/text/format';

interface Found {
  warnings: FullWarning[];
  unread: number;
}

/** Messages that say that the mailbox is full: which of them come from the host. No link of theirs can be pressed here. */
export function Warnings() {
  const { account, base } = useAccount();
  const client = useQueryClient();
  const scan = useScan().data;
  const [open, setOpen] = useState(false);
  const key = ['warnings', account.id, scan?.state === 'done' ? scan.id : 0];
  const found = useQuery({ queryKey: key, queryFn: () => call<Found>(`${base}/warnings`), staleTime: 60_000 }).data;
  const { mutate, error, isIdle } = useMutation({
    mutationFn: () => call<Found>(`${base}/warnings`, { method: 'POST', body: {} }),
    onSuccess: (read) => client.setQueryData(key, read),
  });
  const mayRead = account.state === 'active' && scan?.state === 'done';
  useEffect(() => {
    if (mayRead && isIdle && (found?.unread ?? 0) > 0) mutate();
  }, [mayRead, isIdle, found?.unread, mutate]);
  if (!found || found.warnings.length === 0) return null;
  const { warnings, unread } = found;
  return (
    <section className="card flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1">
      <p role="status">
        <strong>{text.warnings.title}</strong> {text.warnings.count(warnings.length)}{' '}
        {unread > 0 ? text.warnings.reading(unread) : summaryOf(warnings)}
      </p>
      <button type="button" className="link" onClick={() => setOpen(true)}>
        {text.warnings.look(warnings.length)}
      </button>
      <Refused error={error} />
      <Sheet title={text.warnings.title} open={open} onClose={() => setOpen(false)}>
        <p>{text.warnings.advice}</p>
        <ul className="grid gap-3">
          {warnings.map((warning) => (
            <Warning key={warning.id} warning={warning} />
          ))}
        </ul>
      </Sheet>
    </section>
  );
}

function summaryOf(warnings: readonly FullWarning[]): string {
  const of = (verdict: string) => warnings.filter(({ judged }) => judged?.verdict === verdict);
  const [genuine, wrong, unclear] = [of('genuine'), of('not-genuine'), of('unclear')];
  const agreed = genuine.filter(({ judged }) => judged?.signs.includes('figure-agrees')).length;
  const asking = wrong.filter(({ judged }) => judged?.signs.includes('foreign-links')).length;
  return [
    ...(genuine.length > 0 ? [text.warnings.genuine(genuine.length, agreed)] : []),
    ...(wrong.length > 0 ? [text.warnings.wrong(wrong.length, asking)] : []),
    ...(unclear.length > 0 ? [text.warnings.unclear(unclear.length)] : []),
  ].join(' ');
}

function Warning({ warning: { subject, from, received, folder, judged } }: { warning: FullWarning }) {
  const { dayAndTime } = useFigures();
  return (
    <li className={`card grid gap-1 ${judged?.verdict === 'not-genuine' ? 'border-go' : ''}`}>
      <h3 className="font-semibold wrap-anywhere">{subject}</h3>
      <p className="note wrap-anywhere">
        {text.warnings.from(from.name, from.address)} · {dayAndTime(received)} · {folder}
      </p>
      <p className="font-semibold">{judged ? text.warnings.verdicts[judged.verdict] : text.warnings.notYet}</p>
      {judged && (
        <ul className="ml-4 list-disc">
          {judged.signs.map((sign) => (
            <li key={sign} className="wrap-anywhere">
              {text.warnings.signs[sign]({
                domain: judged.domain,
                said: judged.said === null ? '' : percent(judged.said),
                was: judged.was === null ? '' : percent(judged.was),
                hosts: judged.foreign.join(', '),
              })}
            </li>
          ))}
        </ul>
      )}
    </li>
  );
}
