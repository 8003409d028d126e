import type { FileGroup, Lot, Repeats } from '../../contract/types';
import { useChange, useFigures } from '../../ui/api/account';
import { REPEATS_STALE, useRepeatedFiles } from '../../ui/api/repeats';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { CopyGroup } from './CopyGroup';
import { GroupTable, goingWithout } from './GroupTable';
import { More } from './More';
import { useLeft } from './useLeft';

/** Files that lie in several messages: in which one each stays, and out of which ones it can be taken. */
export function RepeatedFiles({ found }: { found: Repeats }) {
  const { octets } = useFigures();
  const files = useRepeatedFiles();
  const { left, toggle, clear } = useLeft();
  const groups = files.data?.pages.flatMap((page) => page.groups) ?? [];
  const { going } = found.files;
  const chosen = goingWithout(going, groups, left);
  const mark = useChange<'one' | 'none', Lot>(
    () => '/repeats/files/lots',
    'POST',
    (keep) => ({
      except: [...left],
      keep,
      label: keep === 'one' ? text.repeats.fileLot : text.repeats.allFilesLot,
      ...(keep === 'one' ? { expect: chosen } : {}),
    }),
    REPEATS_STALE,
    clear,
  );
  if (files.error) return <Failed error={files.error} retry={() => void files.refetch()} />;
  if (!files.data) return <Loading />;
  return (
    <section className="card" aria-labelledby="repeated-files">
      <div className="mb-1 flex flex-wrap items-center justify-between gap-2">
        <h2 id="repeated-files" className="min-w-0 flex-1 max-md:basis-full">
          <strong>
            {text.repeats.filesTitle(
              found.files.groups,
              count(found.files.groups),
              text.repeats.copies(going.files, count(going.files)),
              octets(going.bytes),
            )}
          </strong>{' '}
          <span className="text-ink-2">{text.repeats.lineStays}</span>
        </h2>
        {chosen.files > 0 && (
          <>
            <button type="button" className="button" disabled={mark.isPending} onClick={() => mark.mutate('none')}>
              {text.repeats.archiveOne}
            </button>
            <button
              type="button"
              className="button button-chief"
              disabled={mark.isPending}
              onClick={() => mark.mutate('one')}
            >
              {text.repeats.add(text.repeats.copies(chosen.files, count(chosen.files)))}
            </button>
          </>
        )}
      </div>
      <Refused error={mark.error} />
      <GroupTable
        groups={groups}
        what={text.repeats.file}
        none={found.unread.files.files === 0 ? text.repeats.noFiles : text.repeats.noFilesYet}
        draw={(group) => (
          <OneFile key={group.id} group={group} isChosen={!left.has(group.id)} onToggle={() => toggle(group.id)} />
        )}
      />
      <More list={files} />
    </section>
  );
}

function OneFile({ group, isChosen, onToggle }: { group: FileGroup; isChosen: boolean; onToggle(): void }) {
  const { octets, day } = useFigures();
  return (
    <CopyGroup
      title={group.name || text.files.noName}
      wins={octets(group.going.bytes)}
      from={text.repeats.eachHas(octets(group.size))}
      copies={group.copies.map(({ file, subject, folder, from, date, state, why }) => ({
        id: file,
        place: (
          <span title={`${subject}, ${folder}`}>
            {subject || text.sift.noSubject} <span className="note">{folder}</span>
          </span>
        ),
        from: from?.name || from?.address || text.sift.noSender,
        date: date ? day(date) : undefined,
        state,
        reason: why ? text.repeats.because[why] : text.repeats.same.octets,
      }))}
      more={group.more}
      choice={group.going.files > 0 ? { isChosen, onToggle } : undefined}
    />
  );
}
