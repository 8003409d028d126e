import { useSyncExternalStore } from 'react';

const never = () => () => {};

/** Whether the page has taken over what the server rendered: before that only what both know may be shown. */
export function useHydrated(): boolean {
  return useSyncExternalStore(
    never,
    () => true,
    () => false,
  );
}
