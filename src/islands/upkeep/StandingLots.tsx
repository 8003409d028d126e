import { useState } from 'react';
import type { StandingLot } from '../../contract/types';
import { useChange, useFigures } from '../../ui/api/account';
import { STANDING_STALE, useStandingLots } from '../../ui/api/standing';
import { Heads } from '../../ui/Heads';
import { Link } from '../../ui/route';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { Months } from './Months';
import { StandingForm } from './StandingForm';
import { TrialSheet } from './TrialSheet';

/** What goes by itself, and what was tried so far. */
export function StandingLots() {
  const found = useStandingLots();
  const [making, setMaking] = useState(false);
  const [shown, setShown] = useState<number>();
  if (found.error) return <Failed error={found.error} retry={() => void found.refetch()} />;
  if (!found.data) return <Loading />;
  const lots = found.data.standingLots;
  const lot = lots.find(({ id }) => id === shown);
  return (
    <section className="card" aria-labelledby="standing">
      <div className="mb-1 flex flex-wrap items-center justify-between gap-2">
        <h2 id="standing" className="font-semibold">
          {text.standing.title}
        </h2>
        <button type="button" className="button" onClick={() => setMaking(true)}>
          {text.standing.make}
        </button>
      </div>
      {lots.length === 0 ? (
        <p className="note">{text.standing.none}</p>
      ) : (
        <div className="overflow-x-auto">
          <table className="table">
            <Heads
              of={[
                [text.standing.name, ''],
                [text.standing.takes, 'max-md:hidden'],
                [text.standing.fate, 'max-md:hidden'],
                [text.standing.when, 'max-md:hidden'],
                [text.standing.now, 'number'],
                [text.standing.lastMonths, 'max-md:hidden'],
                [text.standing.next, ''],
                ['', 'number'],
              ]}
            />
            <tbody>
              {lots.map((each) => (
                <Row key={each.id} lot={each} onLook={() => setShown(each.id)} />
              ))}
            </tbody>
          </table>
        </div>
      )}
      {making && (
        <StandingForm
          onClose={() => setMaking(false)}
          onMade={(made) => {
            setMaking(false);
            setShown(made.id);
          }}
        />
      )}
      {lot && <TrialSheet key={lot.id} lot={lot} onClose={() => setShown(undefined)} />}
    </section>
  );
}

function Row({ lot, onLook }: { lot: StandingLot; onLook(): void }) {
  const { octets } = useFigures();
  const stop = useChange<void>(
    () => `/standing-lots/${lot.id}/stop`,
    'POST',
    () => ({}),
    STANDING_STALE,
  );
  const { label, where, fate, trial, purgeAfterDays, state } = lot;
  return (
    <tr>
      <td className="min-w-32 font-semibold">{label}</td>
      <td className="max-w-52 truncate font-mono text-[12px] max-md:hidden" title={where}>
        {where || text.standing.everything}
      </td>
      <td className="max-md:hidden">
        {text.standing.fates[fate]}
        {purgeAfterDays !== null && <span className="note block">{text.standing.purged(purgeAfterDays)}</span>}
      </td>
      <td className="whitespace-nowrap max-md:hidden">{text.standing.rhythm(lot.rhythm)}</td>
      <td className="number">{trial ? `${count(trial.now.messages)} · ${octets(trial.now.bytes)}` : '–'}</td>
      <td className="max-md:hidden">{trial && <Months months={trial.months} />}</td>
      <td>
        <Next lot={lot} />
        <Refused error={stop.error} />
      </td>
      <td className="number">
        <button type="button" className="link" onClick={onLook}>
          {state === 'on' ? text.standing.look : text.standing.lookAtTrial}
        </button>
        {state === 'on' && (
          <>
            {' · '}
            <button type="button" className="link" disabled={stop.isPending} onClick={() => stop.mutate()}>
              {text.standing.stop}
            </button>
          </>
        )}
      </td>
    </tr>
  );
}

/** When it goes next, or why it does not. */
function Next({ lot: { state, nextOn, dates } }: { lot: StandingLot }) {
  const [date] = dates;
  if (date?.state === 'asking')
    return (
      <Link to="/review" className="link font-semibold">
        {text.standing.asks(count(date.messages))}
      </Link>
    );
  if (date && (date.state === 'scanning' || date.state === 'saving' || date.state === 'running'))
    return <span>{date.problem ? date.problem.detail : text.standing.dateStates[date.state]}</span>;
  if (state === 'on') return <span className="whitespace-nowrap">{nextOn}</span>;
  return <span className={state === 'stopped' ? 'text-go' : 'text-ink-2'}>{text.standing.states[state]}</span>;
}
