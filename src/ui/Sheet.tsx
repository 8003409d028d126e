import { Dialog } from 'radix-ui';
import type { ReactNode } from 'react';
import { text } from './text';
import { useReturnFocus } from './useReturnFocus';

/** A panel at the right that lies over the view and goes with Escape. */
export function Sheet({
  title,
  open,
  onClose,
  children,
}: {
  title: string;
  open: boolean;
  onClose(): void;
  children: ReactNode;
}) {
  const focus = useReturnFocus(open);
  return (
    <Dialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-ink/20" />
        <Dialog.Content
          {...focus}
          aria-describedby={undefined}
          className="fixed inset-y-0 right-0 z-30 flex w-[min(560px,100vw)] flex-col gap-3 overflow-y-auto border-l border-line bg-sheet p-5"
        >
          <div className="flex items-baseline justify-between gap-4">
            <Dialog.Title className="text-[15px] font-semibold break-words">{title}</Dialog.Title>
            <Dialog.Close className="link">{text.look.close}</Dialog.Close>
          </div>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
