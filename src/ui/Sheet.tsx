import { Dialog } from 'radix-ui';
import type { ReactNode } from 'react';
import { text } from './text';
import { useReturnFocus } from './useReturnFocus';

const SIDE =
  'inset-y-0 right-0 flex w-[min(560px,100vw)] flex-col gap-3 overflow-y-auto border-l border-line bg-sheet p-5';
const SMALL = 'card top-1/3 left-1/2 w-[min(400px,92vw)] -translate-x-1/2 p-5';

/** A panel at the right that lies over the view and goes with Escape; a small one stands in the middle. */
export function Sheet({
  title,
  open,
  onClose,
  small = false,
  children,
}: {
  title: string;
  open: boolean;
  onClose(): void;
  small?: boolean;
  children: ReactNode;
}) {
  const focus = useReturnFocus(open);
  return (
    <Dialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-ink/20" />
        <Dialog.Content {...focus} aria-describedby={undefined} className={`fixed z-30 ${small ? SMALL : SIDE}`}>
          <div className="flex items-baseline justify-between gap-4">
            <Dialog.Title className="text-[15px] font-semibold wrap-anywhere">{title}</Dialog.Title>
            <Dialog.Close className="link">{text.look.close}</Dialog.Close>
          </div>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
