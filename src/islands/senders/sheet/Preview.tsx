import type { SheetReading } from '../../../contract/types';
import { useFigures } from '../../../ui/api/account';
import { Sheet } from '../../../ui/Sheet';
import { text } from '../../../ui/text';
import { count } from '../../../ui/text/format';

/** What a sheet that came back would do, before anything of it is done. */
export function Preview({
  reading,
  pending,
  onClose,
  onApply,
}: {
  reading: SheetReading | undefined;
  pending: boolean;
  onClose(): void;
  onApply(): void;
}) {
  const { octets } = useFigures();
  const decisions = reading?.decisions ?? [];
  const messages = decisions.reduce((sum, one) => sum + one.messages, 0);
  return (
    <Sheet title={text.senders.sheetTitle} open={reading !== undefined} onClose={onClose}>
      {reading && (
        <>
          <p>
            <strong>
              {text.senders.sheetDecisions(count(decisions.length), text.messages(messages, count(messages)))}
            </strong>
            .{' '}
            {text.senders.sheetAfter(
              text.messages(reading.total.messages, count(reading.total.messages)),
              octets(reading.total.bytes),
            )}
          </p>
          <button
            type="button"
            className="button button-chief self-start"
            disabled={pending || decisions.length === 0}
            onClick={onApply}
          >
            {text.senders.sheetApply(count(decisions.length))}
          </button>
          <Issues title={text.senders.sheetRefused} issues={reading.issues.filter(({ refused }) => refused)} />
          <Issues title={text.senders.sheetDoubtful} issues={reading.issues.filter(({ refused }) => !refused)} />
          <ul>
            {decisions.map(({ line, key, decision, messages: some }) => (
              <li key={line} className="flex justify-between gap-3 border-b border-hair py-1">
                <span className="min-w-0 wrap-anywhere">
                  {key}: <strong>{decision}</strong>
                </span>
                <span className="whitespace-nowrap">{text.messages(some, count(some))}</span>
              </li>
            ))}
          </ul>
        </>
      )}
    </Sheet>
  );
}

function Issues({ title, issues }: { title: string; issues: SheetReading['issues'] }) {
  if (issues.length === 0) return null;
  return (
    <section>
      <h3 className="font-semibold">{title}</h3>
      <ul>
        {issues.map(({ line, note, cell }) => (
          <li key={`${line} ${note}`} className="flex gap-3 border-b border-hair py-1">
            <span className="note w-14 shrink-0">{text.senders.sheetLine(line)}</span>
            <span className="min-w-0 wrap-anywhere">{text.senders.sheetNotes[note](cell)}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
