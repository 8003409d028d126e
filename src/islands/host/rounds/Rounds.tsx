import type { Round } from '../../../contract/types';
import { Heads } from '../../../ui/Heads';
import { Link, useRoute, withState } from '../../../ui/route';
import { Failed, Loading } from '../../../ui/State';
import { text } from '../../../ui/text';
import { count, dayAndTime } from '../../../ui/text/format';
import { OneRound } from './OneRound';
import { amount, saysOfRound, titleOf } from './told';
import { useRounds } from './useRounds';

/** What was decided for several mailboxes at once, and what came of it. */
export function Rounds() {
  const route = useRoute();
  const found = useRounds();
  const { rounds: words } = text.host;
  const shown = Number(route.search.get('round'));
  if (found.error) return <Failed error={found.error} retry={() => void found.refetch()} />;
  if (!found.data) return <Loading />;
  const { rounds } = found.data;
  const { timeZone } = Intl.DateTimeFormat().resolvedOptions();
  return (
    <>
      {shown > 0 && <OneRound key={shown} id={shown} />}
      <section className="card">
        <h2>{words.title}</h2>
        {rounds.length === 0 ? (
          <p className="py-4 text-ink-2">{words.none}</p>
        ) : (
          <div className="overflow-x-auto">
            <table className="table">
              <Heads
                of={[
                  [words.heads.round, ''],
                  [words.heads.mailboxes, 'number'],
                  [words.heads.state, ''],
                  [words.heads.went, 'number'],
                  [words.heads.when, 'max-md:hidden'],
                ]}
              />
              <tbody>
                {rounds.map((round) => (
                  <tr key={round.id} aria-current={round.id === shown ? 'true' : undefined}>
                    <td>
                      <Link to={withState(route, { round: `${round.id}` })} className="link">
                        {titleOf(round)}
                      </Link>
                    </td>
                    <td className="number">{count(mailboxesOf(round))}</td>
                    <td>{saysOfRound(round)}</td>
                    <td className="number">{amount(round.kind === 'standing' ? round.taken : round.done)}</td>
                    <td className="max-md:hidden">{dayAndTime(round.createdAt, timeZone)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </section>
    </>
  );
}

function mailboxesOf({ states }: Round): number {
  return Object.values(states).reduce<number>((sum, each) => sum + (each ?? 0), 0);
}
