import type { Run } from '../../contract/types';
import { useChange } from '../../ui/api/account';
import { membersOf, runsPath } from '../../ui/run-words';
import { text } from '../../ui/text';

/** Takes back what a run moved to the trash, as long as any of it lies there; or moves there what it put back. */
export function Undo({ run }: { run: Run }) {
  const puts = run.action === 'put-back';
  const undo = useChange<undefined, Run>(
    () => runsPath(run),
    'POST',
    () => ({ action: puts ? 'trash' : 'restore', run: run.id }),
    ['runs', 'level', 'messages', 'trash', 'spaces'],
  );
  if (run.action === 'purge' || run.action === 'restore' || run.done.messages === 0) return null;
  if (run.undo.messages === 0)
    return <span className="text-ink-2">{text.ledger[puts ? 'undonePutBack' : 'undoGone']}</span>;
  return (
    <>
      <button type="button" className="button" disabled={undo.isPending} onClick={() => undo.mutate(undefined)}>
        {text.ledger[puts ? 'undoPutBack' : 'undoSome'](membersOf(run, run.undo.messages))}
      </button>
      {undo.error && (
        <span role="alert" className="block text-go">
          {undo.error.message}
        </span>
      )}
    </>
  );
}
