import { AlertDialog } from 'radix-ui';
import { type FormEvent, type ReactNode, useId, useState } from 'react';
import { text } from './text';
import { count } from './text/format';

interface Asked {
  sentence: string;
  doIt: string;
  /** What has to be typed: how many messages go, which nobody types by habit. */
  answer: number;
  onDo(): void;
}

/**
 * Asks once before something that can't be undone. What is shown when it opens is what its answer does, whatever happens
 * behind it meanwhile.
 */
export function Question({
  title,
  note,
  trigger,
  prompt = text.question.type,
  keep = text.question.keep,
  ...now
}: Asked & {
  title: string;
  note?: string;
  trigger: ReactNode;
  prompt?: (count: string) => string;
  keep?: string;
}) {
  const [asked, setAsked] = useState<Asked>();
  const [typed, setTyped] = useState('');
  const field = useId();
  const right = asked !== undefined && typed.replace(/[\s,.’']/g, '') === `${asked.answer}`;
  const open = (opens: boolean) => {
    setAsked(opens ? now : undefined);
    setTyped('');
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (!asked || !right) return;
    asked.onDo();
    open(false);
  };
  return (
    <AlertDialog.Root open={asked !== undefined} onOpenChange={open}>
      <AlertDialog.Trigger asChild>{trigger}</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-ink/30" />
        <AlertDialog.Content className="card fixed top-1/3 z-40 left-1/2 w-[min(440px,92vw)] -translate-x-1/2 border-go p-5">
          <AlertDialog.Title className="text-[15px] font-semibold">{title}</AlertDialog.Title>
          <AlertDialog.Description className="my-3">{asked?.sentence}</AlertDialog.Description>
          {note && <p className="mb-3">{note}</p>}
          <form onSubmit={submit} className="grid gap-3">
            <label htmlFor={field} className="flex flex-wrap items-center justify-between gap-2">
              {prompt(count(asked?.answer ?? 0))}
              <input
                id={field}
                className="field w-28 text-right tabular-nums"
                inputMode="numeric"
                autoComplete="off"
                value={typed}
                onChange={(event) => setTyped(event.target.value)}
              />
            </label>
            <div className="flex flex-wrap justify-end gap-2">
              <AlertDialog.Cancel className="button">{keep}</AlertDialog.Cancel>
              <button type="submit" className="button button-go" disabled={!right}>
                {asked?.doIt}
              </button>
            </div>
          </form>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
