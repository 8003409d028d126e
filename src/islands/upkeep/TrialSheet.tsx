import { useState } from 'react';
import type { StandingLot, Trial } from '../../contract/types';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { STANDING_STALE } from '../../ui/api/standing';
import { Heads } from '../../ui/Heads';
import { MessageLines } from '../../ui/messages/MessageLines';
import { Link } from '../../ui/route';
import { Sheet } from '../../ui/Sheet';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count, monthAndYear } from '../../ui/text/format';
import { StandingForm } from './StandingForm';

/** What a standing lot would have taken, what somebody cared for first; and what it has done. */
export function TrialSheet({ lot, onClose }: { lot: StandingLot; onClose(): void }) {
  const [changing, setChanging] = useState(false);
  const again = useChange<void>(
    () => `/standing-lots/${lot.id}/try`,
    'POST',
    () => ({}),
    STANDING_STALE,
  );
  const remove = useChange<void>(
    () => `/standing-lots/${lot.id}`,
    'DELETE',
    () => undefined,
    STANDING_STALE,
    onClose,
  );
  if (changing) return <StandingForm lot={lot} onClose={() => setChanging(false)} onMade={() => setChanging(false)} />;
  return (
    <Sheet open title={lot.label} onClose={onClose}>
      <p className="font-mono text-[12px] wrap-anywhere">{lot.where || text.standing.everything}</p>
      <p>
        {text.standing.sentence(lot.fate, text.standing.rhythm(lot.rhythm), lot.rhythm.at)}
        {lot.purgeAfterDays !== null && ` ${text.standing.purgedSentence(lot.purgeAfterDays)}`}
      </p>
      {lot.trial && <Tried lot={lot} trial={lot.trial} />}
      {lot.dates.length > 0 && <Dates lot={lot} />}
      <div className="flex flex-wrap gap-x-4 gap-y-1">
        <button type="button" className="link" disabled={again.isPending} onClick={() => again.mutate()}>
          {again.isPending ? text.standing.trying : text.standing.tryAgain}
        </button>
        <button type="button" className="link" onClick={() => setChanging(true)}>
          {text.standing.change}
        </button>
        <button type="button" className="link" disabled={remove.isPending} onClick={() => remove.mutate()}>
          {text.standing.delete}
        </button>
      </div>
      <Refused error={again.error ?? remove.error} />
    </Sheet>
  );
}

function Tried({ lot, trial }: { lot: StandingLot; trial: Trial }) {
  const { octets, day } = useFigures();
  const { settings } = useAccount();
  const start = useChange<void>(
    () => `/standing-lots/${lot.id}/start`,
    'POST',
    () => ({ expect: { messages: trial.now.messages, bytes: trial.now.bytes } }),
    STANDING_STALE,
  );
  const messages = (amount: { messages: number }) => text.messages(amount.messages, count(amount.messages));
  return (
    <>
      <p className="font-semibold">{text.standing.wouldTake(messages(trial.now), octets(trial.now.bytes))}</p>
      {trial.cared.length > 0 ? (
        <MessageLines title={text.standing.cared} ids={trial.cared} />
      ) : (
        <p className="note">{text.standing.nobodyCared}</p>
      )}
      <table className="table">
        <caption className="mb-1 text-left">{text.standing.pastTitle}</caption>
        <Heads
          of={[
            [text.upkeep.month, ''],
            [text.archive.messages, 'number'],
            [text.archive.bytes, 'number'],
            [text.flags.seen, 'number'],
            [text.flags.answered, 'number'],
            [text.flags.flagged, 'number'],
          ]}
        />
        <tbody>
          {trial.months.map((month) => (
            <tr key={month.from}>
              <td>{monthAndYear(month.from, settings.timeZone)}</td>
              <td className="number">{count(month.messages)}</td>
              <td className="number">{octets(month.bytes)}</td>
              <td className="number">{count(month.seen)}</td>
              <td className="number">{count(month.answered)}</td>
              <td className="number">{count(month.flagged)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="note">{text.standing.trialNote}</p>
      {lot.ceiling !== undefined && <p>{text.standing.ceiling(count(lot.ceiling))}</p>}
      {lot.state !== 'on' && (
        <div>
          <button
            type="button"
            className="button button-chief"
            disabled={start.isPending}
            onClick={() => start.mutate()}
          >
            {text.standing.start}
          </button>
        </div>
      )}
      {lot.state === 'on' && lot.nextOn && <p>{text.standing.nextIs(lot.nextOn)}</p>}
      <p className="note">{lot.triedAt && text.standing.triedOn(day(lot.triedAt))}</p>
      <Refused error={start.error} />
    </>
  );
}

function Dates({ lot }: { lot: StandingLot }) {
  const { octets } = useFigures();
  return (
    <table className="table">
      <caption className="mb-1 text-left">{text.standing.datesTitle}</caption>
      <Heads
        of={[
          [text.standing.date, ''],
          [text.standing.state, ''],
          [text.archive.messages, 'number'],
          [text.archive.bytes, 'number'],
          [text.standing.run, 'number'],
        ]}
      />
      <tbody>
        {lot.dates.map(({ day, state, messages, bytes, run, problem }) => (
          <tr key={day}>
            <td className="whitespace-nowrap">{day}</td>
            <td>
              {text.standing.dateStates[state]}
              {problem && <span className="note block">{problem.detail}</span>}
            </td>
            <td className="number">{count(messages)}</td>
            <td className="number">{octets(bytes)}</td>
            <td className="number">
              {run !== undefined && (
                <Link to={`/ledger?run=${run}`} className="link">
                  {count(run)}
                </Link>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
