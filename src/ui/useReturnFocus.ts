import { useRef } from 'react';

/**
 * Gives the focus back to where it was when a dialog opens that no button of its own opens: by itself the dialog would
 * leave it nowhere, and a hand on the keyboard lost.
 */
export function useReturnFocus(open: boolean): { onCloseAutoFocus(event: Event): void } {
  const before = useRef<Element | null>(null);
  if (open) before.current ??= document.activeElement;
  return {
    onCloseAutoFocus(event) {
      event.preventDefault();
      if (before.current instanceof HTMLElement) before.current.focus();
      before.current = null;
    },
  };
}
