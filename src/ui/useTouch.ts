import { useSyncExternalStore } from 'react';

const QUERY = '(pointer: coarse)';

/** Whether the person points with a finger: then what is pressed is larger, and does not need keys. */
export function useTouch(): boolean {
  return useSyncExternalStore(
    (changed) => {
      const coarse = window.matchMedia(QUERY);
      coarse.addEventListener('change', changed);
      return () => coarse.removeEventListener('change', changed);
    },
    () => window.matchMedia(QUERY).matches,
    () => false,
  );
}
