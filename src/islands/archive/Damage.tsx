import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import type { Bag, DamagedFile } from '../../contract/types';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { repairFromCopies } from './repair-from-copies';

/** Damaged messages that are named. */
const NAMED = 5;

/** What of a bag is not any more what was saved, and the ways to repair it. */
export function Damage({ bag }: { bag: Bag }) {
  const { account, base } = useAccount();
  const { day } = useFigures();
  const client = useQueryClient();
  const input = useRef<HTMLInputElement>(null);
  const [verdict, setVerdict] = useState<{ repaired: number; problem: string | undefined }>();
  const damage = useQuery({
    queryKey: ['damage', account.id, bag.id, bag.damaged.files],
    queryFn: () => call<{ files: DamagedFile[] }>(`${base}/bags/${bag.id}/damage?limit=1000`),
  }).data?.files;
  const repair = useChange<void>(
    () => `/bags/${bag.id}/repair`,
    'POST',
    () => ({}),
    ['bags', 'archive'],
  );
  const handIn = async (chosen: FileList | null) => {
    if (!damage || !chosen || chosen.length === 0) return;
    setVerdict(await repairFromCopies(`${base}/bags/${bag.id}/damage`, damage, [...chosen]));
    await client.invalidateQueries({ queryKey: ['bags', account.id] });
    await client.invalidateQueries({ queryKey: ['archive', account.id] });
  };
  const hasSource = bag.tagsDamaged.length > 0 || damage?.some(({ sources }) => sources.length > 0);
  return (
    <div role="alert" className="grid gap-2 border-l-2 border-go pl-3">
      <p className="text-go">
        {bag.damaged.files > 0
          ? text.archive.damaged(bag.damaged.files, count(bag.damaged.files))
          : text.archive.tagsDamaged(bag.tagsDamaged.join(', '))}
      </p>
      {damage && damage.length > 0 && (
        <ul>
          {damage.slice(0, NAMED).map(({ file, subject, received, sources }) => (
            <li key={file}>
              {day(received)} {subject || text.sift.noSubject}
              <span className="note">
                {' '}
                {sources.length === 0
                  ? text.archive.noSource
                  : text.archive.sources(sources.map((one) => text.archive.source[one]).join(', '))}
              </span>
            </li>
          ))}
        </ul>
      )}
      <span className="flex flex-wrap items-baseline gap-2">
        {hasSource && (
          <button type="button" className="button" disabled={repair.isPending} onClick={() => repair.mutate()}>
            {text.archive.repair}
          </button>
        )}
        <button type="button" className="button" onClick={() => input.current?.click()}>
          {text.archive.repairFromCopy}
        </button>
        <input
          ref={input}
          type="file"
          hidden
          multiple
          data-repair
          onChange={({ target }) => void handIn(target.files)}
        />
        {verdict && (
          <span role="status">
            {verdict.problem ?? text.archive.repaired(verdict.repaired, count(verdict.repaired))}
          </span>
        )}
      </span>
      <Refused error={repair.error} />
    </div>
  );
}
