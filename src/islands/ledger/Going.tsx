import { useChange, useFigures } from '../../ui/api/account';
import type { Run } from '../../ui/api/types';
import { Bar } from '../../ui/Bar';
import { text } from '../../ui/text';
import { count, duration } from '../../ui/text/format';

/** A run that has not ended: how far, how fast, and the ways to steer it. */
export function Going({ run }: { run: Run }) {
  const { octets } = useFigures();
  const steer = useChange<string>(
    (verb) => `/runs/${run.id}/${verb}`,
    'POST',
    () => ({}),
    ['runs'],
  );
  const seconds = run.startedAt ? Math.max(0.1, (Date.now() - Date.parse(run.startedAt)) / 1000) : 0;
  const rate = seconds > 0 ? run.done.messages / seconds : 0;
  const remaining = run.asked.messages - run.done.messages;
  const moves = run.state === 'queued' || run.state === 'running';
  return (
    <section className="card flex flex-wrap items-center gap-x-6 gap-y-2">
      <div className="min-w-0 flex-1">
        <p role="status">
          <strong>
            {text.ledger.going(
              run.id,
              `${text.ledger.actions[run.action]}: ${run.label}`,
              count(run.done.messages),
              count(run.asked.messages),
              octets(run.done.bytes),
              octets(run.asked.bytes),
            )}
          </strong>{' '}
          {run.state === 'running' && rate > 0
            ? text.ledger.rate(count(rate), duration(remaining / rate))
            : text.ledger.states[run.state]}
        </p>
        {run.problem && <p className="text-go">{run.problem.detail}</p>}
        <Bar share={run.done.bytes / Math.max(1, run.asked.bytes)} />
      </div>
      <span className="flex gap-2">
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
