import { useCallback, useEffect, useRef, useState } from 'react';
import type { CallName, Calls } from '../../workers/protocol';
import { useColumns } from './provider';

/**
 * What the worker answers to a call, asked again whenever the argument or the columns change. One question is on its way
 * at a time, and only the newest waits. What was answered last stays in view until then.
 *
 * @param argument undefined while it is not known what to ask.
 * @param amend what of the argument is only known when its turn comes.
 */
export function useAsked<N extends CallName>(
  name: N,
  argument: Calls[N][0] | undefined,
  amend?: (argument: Calls[N][0]) => Calls[N][0],
) {
  const client = useColumns();
  const [data, setData] = useState<Calls[N][1]>();
  const [error, setError] = useState<Error>();
  const latest = useRef({ argument, amend });
  latest.current = { argument, amend };
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
        const { argument: asked, amend: amended } = latest.current;
        if (asked === undefined) continue;
        setData(await client.call(name, amended ? amended(asked) : asked));
        setError(undefined);
      }
    } catch (failure) {
      setError(failure instanceof Error ? failure : new Error(String(failure)));
    } finally {
      current.busy = false;
    }
  }, [client, name]);
  const printed = JSON.stringify(argument);
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is asked for, by way of `latest`
  useEffect(() => void ask(), [ask, printed]);
  useEffect(
    () =>
      client?.subscribe((problem) => {
        // What was refused would be asked for again and again; the next thing that the user does asks once.
        if (problem === undefined) void ask();
      }),
    [client, ask],
  );
  return { data, error, ask };
}
