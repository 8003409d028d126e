import type { DoubledGroup, Lot, Repeats } from '../../contract/types';
import { useChange, useFigures } from '../../ui/api/account';
import { REPEATS_STALE, useDoubledFiles } from '../../ui/api/repeats';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { CopyGroup } from './CopyGroup';
import { GroupTable, goingWithout } from './GroupTable';
import { More } from './More';
import { useLeft } from './useLeft';

/** Files of messages that a file space has too: where each lies there, and out of which messages it can be taken. */
export function DoubledFiles({ found }: { found: Repeats }) {
  const { octets } = useFigures();
  const files = useDoubledFiles();
  const { left, toggle, clear } = useLeft();
  const groups = files.data?.pages.flatMap((page) => page.groups) ?? [];
  const { going } = found.spaces;
  const chosen = goingWithout(going, groups, left);
  const mark = useChange<void, Lot>(
    () => '/repeats/spaces/lots',
    'POST',
    () => ({ except: [...left], label: text.repeats.doubledLot, expect: chosen }),
    REPEATS_STALE,
    clear,
  );
  if (files.error) return <Failed error={files.error} retry={() => void files.refetch()} />;
  if (!files.data) return <Loading />;
  return (
    <section className="card" aria-labelledby="doubled-files">
      <div className="mb-1 flex flex-wrap items-center justify-between gap-2">
        <h2 id="doubled-files" className="min-w-0 flex-1 max-md:basis-full">
          <strong>
            {text.repeats.doubledTitle(
              found.spaces.groups,
              count(found.spaces.groups),
              text.repeats.copies(going.files, count(going.files)),
              octets(going.bytes),
            )}
          </strong>{' '}
          <span className="text-ink-2">{text.repeats.lineSays}</span>
        </h2>
        {chosen.files > 0 && (
          <button type="button" className="button button-chief" disabled={mark.isPending} onClick={() => mark.mutate()}>
            {text.repeats.add(text.repeats.copies(chosen.files, count(chosen.files)))}
          </button>
        )}
      </div>
      <Refused error={mark.error} />
      <GroupTable
        groups={groups}
        what={text.repeats.file}
        none={found.unread.spaces.files === 0 ? text.repeats.noDoubled : text.repeats.noDoubledYet}
        draw={(group) => (
          <OneFile key={group.id} group={group} isChosen={!left.has(group.id)} onToggle={() => toggle(group.id)} />
        )}
      />
      <More list={files} />
    </section>
  );
}

function OneFile({ group, isChosen, onToggle }: { group: DoubledGroup; isChosen: boolean; onToggle(): void }) {
  const { octets, day } = useFigures();
  // Beside the files of messages these have numbers of their own.
  const there = group.places.map(({ path }, at) => ({
    id: -1 - at,
    place: (
      <span title={path}>
        {path} <span className="note">{text.repeats.inSpace}</span>
      </span>
    ),
    state: 'stays' as const,
    reason: text.repeats.spaceStays,
  }));
  return (
    <CopyGroup
      title={group.name}
      wins={octets(group.going.bytes)}
      from={text.repeats.there(octets(group.bytes))}
      copies={[
        ...there,
        ...group.copies.map(({ file, subject, folder, from, date, state }) => ({
          id: file,
          place: (
            <span title={`${subject}, ${folder}`}>
              {subject || text.sift.noSubject} <span className="note">{folder}</span>
            </span>
          ),
          from: from?.name || from?.address || text.sift.noSender,
          date: date ? day(date) : undefined,
          state,
          reason: text.repeats.same.octets,
        })),
      ]}
      more={group.more}
      choice={group.going.files > 0 ? { isChosen, onToggle } : undefined}
    />
  );
}
