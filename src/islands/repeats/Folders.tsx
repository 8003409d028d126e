import { useQuery } from '@tanstack/react-query';
import type { Lot, Repeats } from '../../contract/types';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { REPEATS_STALE } from '../../ui/api/repeats';
import { MessageLines } from '../../ui/messages/MessageLines';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

type Folder = Repeats['folders'][number];

/** Folders that repeat others: each is one decision. */
export function Folders({ found }: { found: Repeats }) {
  if (found.folders.length === 0)
    return (
      <section className="card">
        <p className="note">{text.repeats.noFolders}</p>
      </section>
    );
  return found.folders.map((folder) => <OneFolder key={folder.path} folder={folder} />);
}

function OneFolder({ folder }: { folder: Folder }) {
  const { octets } = useFigures();
  const { account, base } = useAccount();
  const { path, in: other, messages, both, going, conflicts } = folder;
  const alone = useQuery({
    queryKey: ['repeats', account.id, 'alone', path, other],
    queryFn: () =>
      call<{ ids: number[] }>(
        `${base}/repeats/alone?folder=${encodeURIComponent(path)}${other === null ? '' : `&in=${encodeURIComponent(other)}`}`,
      ),
  });
  const mark = useChange<void, Lot>(
    () => '/repeats/lots',
    'POST',
    () => ({ folder: path, expect: going, label: text.repeats.folderLot(path).slice(0, 200) }),
    REPEATS_STALE,
  );
  return (
    <section className="card" aria-label={path}>
      <div className="flex flex-wrap items-center justify-between gap-2">
        <h2 className="min-w-0 flex-1 wrap-anywhere">
          <strong>{path}</strong>: {text.repeats.folderSays(count(both), count(messages), other, messages - both)}
          {conflicts && <span className="note block font-normal">{text.repeats.conflicts}</span>}
        </h2>
        {going.messages > 0 && (
          <button type="button" className="button button-chief" disabled={mark.isPending} onClick={() => mark.mutate()}>
            {text.repeats.add(text.repeats.copies(going.messages, count(going.messages)))} · {octets(going.bytes)}
          </button>
        )}
      </div>
      {going.messages === 0 && <p className="note">{text.repeats.folderNothing}</p>}
      <Refused error={mark.error} />
      {alone.data && alone.data.ids.length > 0 && (
        <div className="mt-2">
          <MessageLines title={text.repeats.alone(count(alone.data.ids.length))} ids={alone.data.ids} />
        </div>
      )}
    </section>
  );
}
