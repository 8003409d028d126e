import type { ScanStage, ScanState } from '../../contract/types';
import { text } from '../text';
import { count } from '../text/format';

const STAGES: readonly ScanStage[] = ['level', 'outline', 'details', 'finalizing'];

/** The stages of a scan: what was read is final, what is under way has a count. */
export function Stages({ scan }: { scan: ScanState }) {
  const now = STAGES.indexOf(scan.stage);
  return (
    <div>
      <h2 className="mb-1">{text.scan.title}</h2>
      <ol className="grid gap-1">
        {STAGES.map((stage, index) => (
          <li key={stage} className="flex items-baseline gap-2" aria-current={index === now ? 'step' : undefined}>
            <span className={index === now ? 'font-semibold' : 'text-ink-2'}>{text.scan.stages[stage]}</span>
            <span className={`number ml-auto whitespace-nowrap ${index === now ? '' : 'text-ink-2'}`}>
              {saying(scan, index - now)}
            </span>
          </li>
        ))}
      </ol>
    </div>
  );
}

function saying({ stage, messages }: ScanState, ahead: number): string {
  if (ahead < 0) return text.scan.final;
  if (ahead > 0) return text.scan.waiting;
  const isCounted = stage === 'outline' || stage === 'details';
  return isCounted ? text.scan.progress(count(messages.done), count(messages.total)) : text.scan.going;
}
