import { AlertDialog } from 'radix-ui';
import type { ReactNode } from 'react';
import { text } from './text';

/** Asks once before something that can't be undone. The answer that does it names what it does. */
export function Question({
  title,
  sentence,
  doIt,
  onDo,
  trigger,
}: {
  title: string;
  sentence: string;
  doIt: string;
  onDo(): void;
  trigger: ReactNode;
}) {
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild>{trigger}</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-ink/30" />
        <AlertDialog.Content className="card fixed top-1/3 z-40 left-1/2 w-[min(420px,92vw)] -translate-x-1/2 border-go p-5">
          <AlertDialog.Title className="text-[15px] font-semibold">{title}</AlertDialog.Title>
          <AlertDialog.Description className="my-3">{sentence}</AlertDialog.Description>
          <div className="flex flex-wrap justify-end gap-2">
            <AlertDialog.Cancel className="button">{text.trash.cancel}</AlertDialog.Cancel>
            <AlertDialog.Action className="button button-go" onClick={onDo}>
              {doIt}
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
