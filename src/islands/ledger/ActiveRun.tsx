import { useState } from 'react';
import type { Run } from '../../contract/types';
import { useChange, useFigures } from '../../ui/api/account';
import { useKeptBags } from '../../ui/api/archive';
import { Bar } from '../../ui/Bar';
import { actionOf, membersOf } from '../../ui/run-words';
import { text } from '../../ui/text';
import { count, duration } from '../../ui/text/format';

/** A run that has not ended: how far, how fast, and the ways to steer it. */
export function ActiveRun({ run }: { run: Run }) {
  const { octets } = useFigures();
  const steer = useChange<string>(
    (verb) => `/runs/${run.id}/${verb}`,
    'POST',
    () => ({}),
    ['runs'],
  );
  const rate = run.workedMs > 0 ? (run.done.messages / run.workedMs) * 1_000 : 0;
  const left = run.left.reduce((sum, { messages }) => sum + messages, 0);
  const remaining = run.asked.messages - run.done.messages - left;
  const moves = run.state === 'queued' || run.state === 'running';
  return (
    <section className="card flex flex-wrap items-center gap-x-6 gap-y-2">
      <div className="min-w-0 flex-1">
        <p role="status">
          <strong>
            {text.ledger.going(
              run.id,
              `${actionOf(run)}: ${run.label}`,
              count(run.done.messages),
              membersOf(run, run.asked.messages),
              octets(run.done.bytes),
              octets(run.asked.bytes),
            )}
          </strong>{' '}
          {run.waits
            ? text.account.waits[run.waits]
            : run.state === 'running' && rate > 0
              ? text.ledger.rate(membersOf(run, Math.round(rate)), duration(remaining / rate))
              : text.ledger.states[run.state]}
        </p>
        {run.doing && !run.waits && (
          <p className="note">
            {(run.space !== null && run.doing.phase === 'checking'
              ? text.ledger.checkingFiles
              : text.ledger.doing[run.doing.phase])(membersOf(run, run.doing.messages))}
          </p>
        )}
        {run.doing?.phase === 'saving' && run.bag !== null && <Saving bag={run.bag} since={run.startedAt} />}
        {run.problem && (
          <p className={run.problem.kind === 'throttled' ? 'text-ink-2' : 'text-go'}>{run.problem.detail}</p>
        )}
        <Bar share={run.done.bytes / Math.max(1, run.asked.bytes)} />
      </div>
      <span className="flex gap-2">
        {moves && <Notify />}
        {moves && (
          <button type="button" className="button" onClick={() => steer.mutate('pause')}>
            {text.ledger.pause}
          </button>
        )}
        {!moves && (
          <button type="button" className="button" onClick={() => steer.mutate('resume')}>
            {text.ledger.resume}
          </button>
        )}
        <button type="button" className="button" onClick={() => steer.mutate('cancel')}>
          {text.ledger.cancel}
        </button>
      </span>
    </section>
  );
}

/** How far the bag of a run is, which is written before anything goes. */
function Saving({ bag: id, since }: { bag: number; since: string | undefined }) {
  const { octets } = useFigures();
  const bag = useKeptBags().bags?.find((one) => one.id === id);
  if (!bag) return null;
  const seconds = since ? (Date.now() - Date.parse(since)) / 1000 : 0;
  const rate = seconds > 0 ? bag.saved.bytes / seconds : 0;
  return (
    <>
      <p className="note">
        {text.ledger.saved(count(bag.saved.files), count(bag.asked.files), octets(bag.saved.bytes))}
        {rate > 0 && bag.state === 'running' && (
          <> · {text.ledger.byteRate(octets(rate), duration((bag.asked.bytes - bag.saved.bytes) / rate))}</>
        )}
      </p>
      <Bar share={bag.saved.bytes / Math.max(1, bag.asked.bytes)} />
    </>
  );
}

/** Asks the browser whether it may tell when the run has ended, where that was never answered. */
function Notify() {
  const [asked, setAsked] = useState(!('Notification' in window) || Notification.permission !== 'default');
  if (asked) return null;
  return (
    <button
      type="button"
      className="button"
      onClick={() => void Notification.requestPermission().then(() => setAsked(true))}
    >
      {text.ledger.notify}
    </button>
  );
}
