import { useInfiniteQuery } from '@tanstack/react-query';
import type { FileOutcome, Run } from '../../contract/types';
import { useAccount, useFigures } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { reasonIn } from '../../ui/run-words';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';

/** Files that are shown at a time. */
const PAGE = 50;

/** The files of a run, with what became of each. */
export function FileOutcomes({ run }: { run: Run }) {
  const { account, base } = useAccount();
  const { octets } = useFigures();
  const found = useInfiniteQuery({
    queryKey: ['runs', account.id, run.id, 'files'],
    queryFn: ({ pageParam }) =>
      call<{ files: FileOutcome[]; next?: number }>(`${base}/runs/${run.id}/files?limit=${PAGE}&after=${pageParam}`),
    initialPageParam: 0,
    getNextPageParam: ({ next }) => next,
  });
  if (found.error) return <Failed error={found.error} retry={() => void found.refetch()} />;
  if (!found.data) return <Loading />;
  return (
    <section>
      <h3 className="font-semibold">{text.ledger.filesOfRun}</h3>
      <ul className="mt-1 grid gap-0.5">
        {found.data.pages.flatMap(({ files }) =>
          files.map(({ id, path, bytes, outcome }) => (
            <li key={id} className="wrap-anywhere">
              {path} <span className="text-ink-2">· {octets(bytes)}</span>
              {outcome !== 'done' && <span className="text-go"> · {reasonIn(run, outcome)}</span>}
            </li>
          )),
        )}
      </ul>
      {found.hasNextPage && (
        <button type="button" className="link mt-1" onClick={() => void found.fetchNextPage()}>
          {text.review.more}
        </button>
      )}
    </section>
  );
}
