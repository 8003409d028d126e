import { useCallback, useEffect, useRef, useState } from 'react';
import type { ListWindow, Narrowed } from '../../workers/protocol';
import { useColumns } from './provider';

/**
 * What Sift shows under criteria. One question is on its way at a time: what is asked meanwhile waits, and only the
 * newest of it is asked next, so that a hand that moves is never behind.
 */
export function useNarrowed(where: string, list: ListWindow) {
  const client = useColumns();
  const [data, setData] = useState<Narrowed>();
  const [error, setError] = useState<Error>();
  const [problem, setProblem] = useState<string>();
  /** Criteria while a hand drags: asked for at once, without drawing anything before the answer is here. */
  const draft = useRef<string | undefined>(undefined);
  const latest = useRef({ where, list });
  latest.current = { where, list };
  const state = useRef({ busy: false, again: false });

  const ask = useCallback(async () => {
    if (!client) return;
    const { current } = state;
    current.again = true;
    if (current.busy) return;
    current.busy = true;
    try {
      while (current.again) {
        current.again = false;
        await client.ready;
        const { where: settled, list: window } = latest.current;
        setData(await client.call('narrow', { where: draft.current ?? settled, list: window, now: Date.now() }));
        setError(undefined);
      }
    } catch (failure) {
      setError(failure instanceof Error ? failure : new Error(String(failure)));
    } finally {
      current.busy = false;
    }
  }, [client]);

  const { order, descending, first, count } = list;
  // biome-ignore lint/correctness/useExhaustiveDependencies: these are what is asked for, by way of `latest`
  useEffect(() => void ask(), [ask, where, order, descending, first, count]);
  useEffect(
    () =>
      client?.subscribe((detail) => {
        setProblem(detail);
        void ask();
      }),
    [client, ask],
  );
  const narrowTo = useCallback(
    (next: string | undefined) => {
      draft.current = next;
      void ask();
    },
    [ask],
  );
  return { data, error, problem, ask, narrowTo };
}
