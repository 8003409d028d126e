import { useState } from 'react';
import type { Lot, Repeats, TwinGroup } from '../../contract/types';
import { useChange, useFigures } from '../../ui/api/account';
import { REPEATS_STALE, useTwins } from '../../ui/api/repeats';
import { Heads } from '../../ui/Heads';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { CopyGroup, groupHeads } from './CopyGroup';
import { KeepRules } from './KeepRules';
import { More } from './More';
import { useLeft } from './useLeft';

/** Messages that exist more than once, with every copy: which stays, which can go, and why. */
export function Twins({ found }: { found: Repeats }) {
  const { octets } = useFigures();
  const twins = useTwins();
  const [rules, setRules] = useState(false);
  const { left, toggle, clear } = useLeft();
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
    clear,
  );
  if (twins.error) return <Failed error={twins.error} retry={() => void twins.refetch()} />;
  if (!twins.data) return <Loading />;
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
            <Heads of={groupHeads(text.repeats.message)} />
            <tbody>
              {groups.map((group) => (
                <Group key={group.id} group={group} isChosen={!left.has(group.id)} onToggle={() => toggle(group.id)} />
              ))}
            </tbody>
          </table>
        </div>
      )}
      <More list={twins} />
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
  return (
    <CopyGroup
      title={group.subject || text.sift.noSubject}
      wins={octets(group.going.bytes)}
      from={group.from?.name || group.from?.address || text.sift.noSender}
      date={group.date ? day(group.date) : undefined}
      copies={group.copies.map(({ id, folder, state, why, same }) => ({
        id,
        place: <span title={folder}>{folder}</span>,
        state,
        reason: reasonOf({ why, same }),
      }))}
      more={group.more}
      choice={group.going.messages > 0 ? { isChosen, onToggle } : undefined}
    />
  );
}
