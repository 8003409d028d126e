import { useSyncExternalStore } from 'react';
import type { Bag } from '../../contract/types';
import { ApiProblem, call } from '../api/call';

/** Octets that are sent at a time; the API takes so many. */
const AT_ONCE = 8 * 2 ** 20;

/** Files that this page is sending, by the number of their bag: it goes on whatever place is shown. */
const sending = new Set<number>();
const watchers = new Set<() => void>();

function changed(change: () => void): void {
  change();
  for (const watcher of watchers) watcher();
}

/** Whether this page is sending the file of a bag. */
export function useIsSending(bag: number): boolean {
  return useSyncExternalStore(
    (watcher) => {
      watchers.add(watcher);
      return () => watchers.delete(watcher);
    },
    () => sending.has(bag),
    () => false,
  );
}

/** Sends the octets of a file that are not there yet. @param base of the account. */
export async function sendFile(base: string, bag: Bag, file: File): Promise<void> {
  if (sending.has(bag.id)) return;
  changed(() => sending.add(bag.id));
  try {
    let now: Bag = bag;
    while (now.brought && now.brought.received < file.size) {
      const at = now.brought.received;
      now = await call<Bag>(`${base}/bring-in/${bag.id}?at=${at}`, {
        method: 'POST',
        octets: file.slice(at, at + AT_ONCE),
      });
    }
  } catch (error) {
    // Cancelled meanwhile: the bag says so.
    if (!(error instanceof ApiProblem && error.type === '/problems/wrong-state')) throw error;
  } finally {
    changed(() => sending.delete(bag.id));
  }
}
