import { useState } from 'react';
import type { DoubledGroup, Repeats } from '../../contract/types';
import { useChange, useFigures } from '../../ui/api/account';
import { REPEATS_STALE, useDoubledFiles } from '../../ui/api/repeats';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { CopyGroup } from './CopyGroup';
import { GroupTable, goingWithout } from './GroupTable';
import { More } from './More';
import { useLeft } from './useLeft';

/** Which copies are let go: those in messages, or those in the file space. */
type Side = 'mail' | 'space';

function goingOf({ going, goingThere }: Pick<DoubledGroup, 'going' | 'goingThere'>, side: Side) {
  return side === 'mail' ? going : goingThere;
}

/** Files of messages that a file space has too: where each lies there, and which copy can be let go. */
export function DoubledFiles({ found }: { found: Repeats }) {
  const { octets } = useFigures();
  const files = useDoubledFiles();
  const { left, toggle, clear } = useLeft();
  const [side, setSide] = useState<Side>('mail');
  const groups = files.data?.pages.flatMap((page) => page.groups) ?? [];
  const going = side === 'mail' ? found.spaces.going : found.spaces.goingThere;
  const chosen = goingWithout(
    going,
    groups.map(({ id, ...group }) => ({ id, going: goingOf(group, side) })),
    left,
  );
  const mark = useChange<void, unknown>(
    () => `/repeats/spaces/${side === 'mail' ? 'lots' : 'file-lots'}`,
    'POST',
    () => ({ except: [...left], label: text.repeats.doubledLots[side], expect: chosen }),
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
              text.repeats.sideFiles[side](going.files, count(going.files)),
              octets(going.bytes),
            )}
          </strong>{' '}
          <span className="text-ink-2">{text.repeats.doubledSays[side]}</span>
        </h2>
        {chosen.files > 0 && (
          <button type="button" className="button button-chief" disabled={mark.isPending} onClick={() => mark.mutate()}>
            {text.repeats.add(text.repeats.sideFiles[side](chosen.files, count(chosen.files)))}
          </button>
        )}
      </div>
      {groups.length > 0 && (
        <fieldset className="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-1">
          <legend className="float-left mr-4 text-ink-2">{text.repeats.letGo}</legend>
          {(['mail', 'space'] as const).map((one) => (
            <label key={one} className="flex items-baseline gap-1.5">
              <input type="radio" name="side" checked={side === one} onChange={() => setSide(one)} />
              {text.repeats.sides[one]}
            </label>
          ))}
        </fieldset>
      )}
      <Refused error={mark.error} />
      <GroupTable
        groups={groups}
        what={text.repeats.file}
        none={found.unread.spaces.files === 0 ? text.repeats.noDoubled : text.repeats.noDoubledYet}
        draw={(group) => (
          <OneFile
            key={group.id}
            group={group}
            side={side}
            isChosen={!left.has(group.id)}
            onToggle={() => toggle(group.id)}
          />
        )}
      />
      <More list={files} />
    </section>
  );
}

function OneFile({
  group,
  side,
  isChosen,
  onToggle,
}: {
  group: DoubledGroup;
  side: Side;
  isChosen: boolean;
  onToggle(): void;
}) {
  const { octets, day } = useFigures();
  const going = goingOf(group, side);
  // Of the side that is not let go nothing goes.
  const stateOf = (state: 'goes' | 'stays' | 'marked' | 'guarded', of: Side) =>
    side !== of && state === 'goes' ? 'stays' : state;
  const there = group.places.map(({ file, path, state }) => ({
    // Beside the files of messages these have numbers of their own.
    id: -file,
    place: (
      <span title={path}>
        {path} <span className="note">{text.repeats.inSpace}</span>
      </span>
    ),
    state: stateOf(state, 'space'),
    reason: side === 'mail' ? text.repeats.spaceStays : text.repeats.same.octets,
  }));
  return (
    <CopyGroup
      title={group.name}
      wins={octets(going.bytes)}
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
          state: stateOf(state, 'mail'),
          reason: side === 'mail' ? text.repeats.same.octets : text.repeats.mailStays,
        })),
      ]}
      more={group.more}
      choice={going.files > 0 ? { isChosen, onToggle } : undefined}
    />
  );
}
