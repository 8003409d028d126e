import { Slot } from 'radix-ui';
import { type ReactNode, useEffect } from 'react';

/** How many of them there are: dialogs lie over dialogs. */
let locks = 0;

/**
 * Keeps the page behind a dialog from scrolling. It stands in for the component of that name in react-remove-scroll, which the
 * dialogs use (astro.config.ts), and needs no style element.
 */
export function RemoveScroll({ children }: { children: ReactNode }) {
  useEffect(() => {
    const { style } = document.documentElement;
    if (locks++ === 0) style.overflow = 'hidden';
    return () => {
      if (--locks === 0) style.overflow = '';
    };
  }, []);
  return <Slot.Root>{children}</Slot.Root>;
}
