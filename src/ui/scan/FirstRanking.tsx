import { useQuery } from '@tanstack/react-query';
import type { FirstRanked, ScanState } from '../../contract/types';
import { useAccount, useFigures, useScan } from '../api/account';
import { call } from '../api/call';
import { Bar } from '../Bar';
import { text } from '../text';
import { count, percent } from '../text/format';
import { Stages } from './Stages';

/**
 * What is known while a scan still reads: how far it is, which figures are final, and who fills the mailbox. Nothing where
 * no scan of many messages is under way.
 *
 * @param limit senders that are shown.
 */
export function FirstRanking({ limit }: { limit: number }) {
  const scan = useScan().data;
  if (!scan || scan.state === 'done' || scan.state === 'failed') return null;
  if (scan.stage === 'level' && scan.messages.total < 2_000) return null;
  if (scan.stage !== 'level' && scan.stage !== 'outline' && !scan.outline) return null;
  return (
    <section className="card grid gap-x-6 gap-y-3 lg:grid-cols-[minmax(0,2fr)_minmax(0,3fr)]">
      <div className="grid content-start gap-3">
        <Stages scan={scan} />
        {scan.outline && <Sizes outline={scan.outline} />}
      </div>
      {scan.outline && <Senders outline={scan.outline} limit={limit} />}
    </section>
  );
}

type Outline = NonNullable<ScanState['outline']>;

function Senders({ outline, limit }: { outline: Outline; limit: number }) {
  const { account, base } = useAccount();
  const { octets } = useFigures();
  const { data } = useQuery({
    queryKey: ['first-ranking', account.id, limit],
    queryFn: () => call<{ senders: FirstRanked[] }>(`${base}/first-ranking?by=domain&limit=${limit}`),
  });
  const rows = (data?.senders ?? []).map(({ key, ...amount }) => ({ ...amount, label: key || text.scan.noSender }));
  return (
    <div className="min-w-0">
      <h2 className="mb-1">{text.scan.ranking}</h2>
      <Amounts head={text.scan.sender} rows={rows} of={outline.bytes} />
      <p className="note mt-2">
        {text.scan.rankingNote(text.messages(outline.messages, count(outline.messages)), octets(outline.bytes))}
      </p>
    </div>
  );
}

/** Size classes, the largest first; each without those above it. */
function Sizes({ outline }: { outline: Outline }) {
  const { octets } = useFigures();
  const rows = outline.sizes
    .filter(({ messages }) => messages > 0)
    .map(({ from, ...amount }) => ({
      ...amount,
      label: from === 0 ? text.scan.less : text.scan.atLeast(octets(from)),
    }))
    .reverse();
  return (
    <div>
      <h2 className="mb-1">{text.scan.sizes}</h2>
      <Amounts head={text.scan.sizesNote} rows={rows} of={outline.bytes} />
    </div>
  );
}

/** @param of octets that the shares are of. */
function Amounts({
  head,
  rows,
  of,
}: {
  head: string;
  rows: readonly { label: string; messages: number; bytes: number }[];
  of: number;
}) {
  const { octets } = useFigures();
  const largest = Math.max(1, ...rows.map(({ bytes }) => bytes));
  const heads = [text.scan.messages, text.scan.bytes, text.scan.share];
  return (
    <table className="table">
      <thead>
        <tr>
          <th scope="col">{head}</th>
          {heads.map((name) => (
            <th key={name} scope="col" className="number">
              {name}
            </th>
          ))}
          <td />
        </tr>
      </thead>
      <tbody>
        {rows.map(({ label, messages, bytes }) => (
          <tr key={label}>
            <td className="max-w-48 truncate">{label}</td>
            <td className="number">{count(messages)}</td>
            <td className="number">{octets(bytes)}</td>
            <td className="number">{percent(bytes / Math.max(1, of))}</td>
            <td className="w-1/4 max-sm:hidden">
              <Bar share={bytes / largest} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
