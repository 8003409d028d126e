import type { Run } from '../../contract/types';
import { useFigures, useLevel, useRuns } from '../../ui/api/account';
import { Readings } from '../../ui/charts/Readings';
import { Heads } from '../../ui/Heads';
import { go, useRoute, withState } from '../../ui/route';
import { actionOf, reasonIn } from '../../ui/run-words';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import { count, percent } from '../../ui/text/format';
import { ActiveRun } from './ActiveRun';
import { Details } from './Details';
import { LedgerCheck } from './LedgerCheck';
import { OthersActs } from './OthersActs';
import { outcomeOf } from './outcome';

/** The lasting record: what was asked, what the server confirmed, what was won back, what was left and why. */
export default function Ledger() {
  const runs = useRuns();
  const { octets } = useFigures();
  if (runs.error) return <Failed error={runs.error} retry={() => void runs.refetch()} />;
  if (!runs.data) return <Loading />;
  const all = runs.data.runs;
  const purges = all.filter(({ action }) => action === 'purge');
  const won = purges.reduce((sum, { done }) => sum + done.bytes, 0);
  const going = all.filter(({ state }) => !['done', 'cancelled'].includes(state));
  return (
    <>
      <h1 className="sr-only">{text.places.ledger}</h1>
      {going.map((run) => (
        <ActiveRun key={run.id} run={run} />
      ))}
      <Readings
        title={
          all.length === 0
            ? text.ledger.none
            : text.ledger.wonBack(octets(won), purges.length === 1 ? '1 purge' : `${count(purges.length)} purges`)
        }
      />
      {all.length > 0 && <Runs runs={all} />}
      <OthersActs />
      <LedgerCheck />
    </>
  );
}

/** Says where a run and its entries in the ledger do not agree. */
function Doubt({ run: { agreement } }: { run: Run }) {
  if (agreement === undefined || agreement === 'agrees') return null;
  return (
    <strong role="alert" className="block text-go">
      {text.ledger.doubt[agreement]}
    </strong>
  );
}

function Runs({ runs }: { runs: Run[] }) {
  const figures = useFigures();
  const limit = useLevel().data?.limit ?? null;
  const route = useRoute();
  const opened = Number(route.search.get('run') ?? 0);
  const open = (run: string) => go(withState(route, { run }));
  const share = (mark: Run['before']) =>
    mark === null
      ? '–'
      : limit !== null && mark.used !== null
        ? percent(mark.used / limit)
        : figures.octets(mark.counted);
  return (
    <section className="card">
      <h2 className="mb-1">{text.ledger.runs}</h2>
      <div className="overflow-x-auto">
        <table className="table">
          <Heads
            of={[
              [text.ledger.run, 'number'],
              [text.ledger.when, 'minor'],
              [text.ledger.what],
              [text.ledger.asked, 'number minor'],
              [text.ledger.done, 'number'],
              [text.ledger.left, 'number'],
              [text.ledger.bytes, 'number'],
              [text.ledger.level, 'number minor'],
              [text.ledger.after, 'minor'],
            ]}
          />
          <tbody>
            {runs.map((run) => (
              <tr key={run.id}>
                <td className="number">{run.id}</td>
                <td className="minor text-ink-2 whitespace-nowrap">{figures.dayAndTime(run.createdAt)}</td>
                <td className="max-w-64 wrap-anywhere">
                  <button type="button" className="link text-left" onClick={() => open(`${run.id}`)}>
                    {actionOf(run)}: {run.label}
                  </button>
                  {run.state !== 'done' && <span className="text-ink-2"> ({text.ledger.states[run.state]})</span>}
                  <Doubt run={run} />
                </td>
                <td className="number minor">{count(run.asked.messages)}</td>
                <td className="number">{count(run.done.messages)}</td>
                <td className="number">
                  <strong>{count(run.left.reduce((sum, { messages }) => sum + messages, 0))}</strong>
                </td>
                <td className="number" title={`${count(run.done.bytes)} B`}>
                  {figures.octets(run.done.bytes)}
                </td>
                <td className="number minor">
                  {share(run.before)} → {share(run.after)}
                </td>
                <td className="minor max-w-72 text-ink-2">
                  {outcomeOf(run, figures)}
                  {run.left.map(({ reason, messages }) => (
                    <span key={reason} className="block text-ink">
                      {text.ledger.leftReason(count(messages), reasonIn(run, reason))}
                    </span>
                  ))}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <Details run={runs.find(({ id }) => id === opened)} onClose={() => open('')} />
    </section>
  );
}
