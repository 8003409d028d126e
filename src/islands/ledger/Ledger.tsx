import { useAccount, useChange, useFigures, useLevel, useRuns } from '../../ui/api/account';
import type { Run } from '../../ui/api/types';
import { Readings } from '../../ui/charts/Readings';
import { Heads } from '../../ui/Heads';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import { count, percent } from '../../ui/text/format';
import { Going } from './Going';
import { NoRoom } from './NoRoom';
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
        <Going key={run.id} run={run} />
      ))}
      <Readings
        title={
          all.length === 0
            ? text.ledger.none
            : text.ledger.wonBack(octets(won), purges.length === 1 ? '1 purge' : `${count(purges.length)} purges`)
        }
      />
      {all.length > 0 && <Runs runs={all} />}
    </>
  );
}

function Runs({ runs }: { runs: Run[] }) {
  const { octets, dayAndTime } = useFigures();
  const { base } = useAccount();
  const level = useLevel().data;
  const limit = level?.limit ?? null;
  const inTrash = level?.trash.messages ?? 0;
  const undo = useChange<number, Run>(
    () => '/runs',
    'POST',
    (run) => ({ action: 'restore', run }),
    ['runs', 'level', 'messages'],
  );
  const share = (mark: Run['before']) =>
    mark === null ? '–' : limit !== null && mark.used !== null ? percent(mark.used / limit) : octets(mark.counted);
  return (
    <section className="card">
      <h2 className="mb-1">{text.ledger.runs}</h2>
      {undo.error && (
        <p role="alert" className="text-go">
          {undo.error.message}
        </p>
      )}
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
              ['', 'minor'],
            ]}
          />
          <tbody>
            {runs.map((run) => (
              <tr key={run.id}>
                <td className="number">{run.id}</td>
                <td className="minor text-ink-2 whitespace-nowrap">{dayAndTime(run.createdAt)}</td>
                <td className="max-w-64 break-words">
                  {text.ledger.actions[run.action]}: {run.label}
                  {run.state !== 'done' && <span className="text-ink-2"> ({text.ledger.states[run.state]})</span>}
                </td>
                <td className="number minor">{count(run.asked.messages)}</td>
                <td className="number">{count(run.done.messages)}</td>
                <td className="number">
                  <strong>{count(run.left.reduce((sum, { messages }) => sum + messages, 0))}</strong>
                </td>
                <td className="number" title={`${count(run.done.bytes)} B`}>
                  {octets(run.done.bytes)}
                </td>
                <td className="number minor">
                  {share(run.before)} → {share(run.after)}
                </td>
                <td className="minor max-w-72 text-ink-2">
                  <Outcome run={run} />
                </td>
                <td className="minor number">
                  {run.action === 'trash' && run.done.messages > 0 && run.state === 'done' && inTrash > 0 && (
                    <>
                      <button
                        type="button"
                        className="link"
                        disabled={undo.isPending}
                        onClick={() => undo.mutate(run.id)}
                      >
                        {text.ledger.undo}
                      </button>
                      {' · '}
                    </>
                  )}
                  <a className="link" href={`/api${base}/runs/${run.id}/messages?format=csv`} download>
                    {text.ledger.list}
                  </a>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

/** What the server said after, and each reason for what was left. */
function Outcome({ run }: { run: Run }) {
  const { octets } = useFigures();
  return (
    <>
      {outcomeOf(run, octets)}
      {run.left.map(({ reason, messages }) => (
        <span key={reason} className="block text-ink">
          {text.ledger.leftReason(count(messages), text.ledger.reasons[reason] ?? reason)}
        </span>
      ))}
      <NoRoom run={run} />
    </>
  );
}
