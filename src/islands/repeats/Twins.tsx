import { Fragment, useState } from 'react';
import type { Lot, Repeats, TwinGroup } from '../../contract/types';
import { useChange, useFigures } from '../../ui/api/account';
import { REPEATS_STALE, useTwins } from '../../ui/api/repeats';
import { Heads } from '../../ui/Heads';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { KeepRules } from './KeepRules';

/** Messages that exist more than once, with every copy: which stays, which can go, and why. */
export function Twins({ found }: { found: Repeats }) {
  const { octets } = useFigures();
  const twins = useTwins();
  const [rules, setRules] = useState(false);
  const [left, setLeft] = useState<ReadonlySet<number>>(new Set());
  const groups = twins.data?.pages.flatMap((page) => page.groups) ?? [];
  const { going } = found.twins;
  const skipped = groups.filter(({ id }) => left.has(id));
  const chosen = skipped.reduce(
    (sum, { going: without }) => ({
      messages: sum.messages - without.messages,
      bytes: sum.bytes - without.bytes,
    }),
    going,
  );
  const mark = useChange<void, Lot>(
    () => '/repeats/lots',
    'POST',
    () => ({ except: [...left], expect: chosen, label: text.repeats.lot }),
    REPEATS_STALE,
    () => setLeft(new Set()),
  );
  if (twins.error) return <Failed error={twins.error} retry={() => void twins.refetch()} />;
  if (!twins.data) return <Loading />;
  const toggle = (id: number) =>
    setLeft((before) => {
      const next = new Set(before);
      if (!next.delete(id)) next.add(id);
      return next;
    });
  return (
    <section className="card" aria-labelledby="twins">
      <div className="mb-1 flex flex-wrap items-center justify-between gap-2">
        <h2 id="twins" className="min-w-0 flex-1 max-md:basis-full">
          <strong>
            {text.repeats.twinsTitle(
              found.twins.groups,
              count(found.twins.groups),
              text.repeats.copies(going.messages, count(going.messages)),
              octets(going.bytes),
            )}
          </strong>{' '}
          <span className="text-ink-2">{text.repeats.oneStays}</span>
        </h2>
        <button type="button" className="button" onClick={() => setRules(true)}>
          {text.repeats.rules}
        </button>
        {chosen.messages > 0 && (
          <button type="button" className="button button-chief" disabled={mark.isPending} onClick={() => mark.mutate()}>
            {text.repeats.add(text.repeats.copies(chosen.messages, count(chosen.messages)))}
          </button>
        )}
      </div>
      <Refused error={mark.error} />
      {groups.length === 0 ? (
        <p className="note">{found.candidates.groups === 0 ? text.repeats.none : text.repeats.noneProven}</p>
      ) : (
        <div className="overflow-x-auto">
          <table className="table">
            <Heads
              of={[
                ['', ''],
                [text.repeats.wins, 'number'],
                [text.repeats.message, ''],
                [text.repeats.from, 'max-md:hidden'],
                [text.repeats.date, 'max-md:hidden'],
                ['', 'max-md:hidden'],
                [text.repeats.why, 'max-md:hidden'],
              ]}
            />
            <tbody>
              {groups.map((group) => (
                <Group key={group.id} group={group} isChosen={!left.has(group.id)} onToggle={() => toggle(group.id)} />
              ))}
            </tbody>
          </table>
        </div>
      )}
      {twins.hasNextPage && (
        <button
          type="button"
          className="link mt-2"
          disabled={twins.isFetchingNextPage}
          onClick={() => void twins.fetchNextPage()}
        >
          {text.repeats.more}
        </button>
      )}
      {rules && <KeepRules onClose={() => setRules(false)} />}
    </section>
  );
}

/** Why a copy stays, or how it is the same as the one that does. */
function reasonOf({ why, same }: Pick<TwinGroup['copies'][number], 'why' | 'same'>): string {
  if (why) return text.repeats.because[why];
  return same ? text.repeats.same[same] : '';
}

function Group({ group, isChosen, onToggle }: { group: TwinGroup; isChosen: boolean; onToggle(): void }) {
  const { octets, day } = useFigures();
  const subject = group.subject || text.sift.noSubject;
  return (
    <Fragment>
      <tr>
        <td>
          {group.going.messages > 0 && (
            <input type="checkbox" checked={isChosen} aria-label={text.repeats.take(subject)} onChange={onToggle} />
          )}
        </td>
        <td className="number whitespace-nowrap">{octets(group.going.bytes)}</td>
        <td className="max-w-[320px] truncate font-semibold" title={subject}>
          {subject}
        </td>
        <td className="max-w-[180px] truncate max-md:hidden" title={group.from?.address}>
          {group.from?.name || group.from?.address || text.sift.noSender}
        </td>
        <td className="whitespace-nowrap text-ink-2 max-md:hidden">{group.date && day(group.date)}</td>
        <td className="max-md:hidden" />
        <td className="max-md:hidden" />
      </tr>
      {group.copies.map(({ id, folder, state, why, same }) => (
        <tr key={id}>
          <td />
          <td />
          <td className="max-w-[320px] truncate pl-5" title={folder}>
            {folder}
            <span className="note block truncate md:hidden">
              {text.repeats.states[state]} · {reasonOf({ why, same })}
            </span>
          </td>
          <td className="max-md:hidden" />
          <td className="max-md:hidden" />
          <td className={`font-semibold whitespace-nowrap max-md:hidden ${state === 'stays' ? 'text-water' : ''}`}>
            {text.repeats.states[state]}
          </td>
          <td className="note max-md:hidden">{reasonOf({ why, same })}</td>
        </tr>
      ))}
      {group.more > 0 && (
        <tr>
          <td />
          <td />
          <td className="note pl-5" colSpan={5}>
            {text.repeats.moreCopies(count(group.more))}
          </td>
        </tr>
      )}
    </Fragment>
  );
}
