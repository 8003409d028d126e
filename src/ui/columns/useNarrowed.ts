import { useCallback, useEffect, useRef, useState } from 'react';
import type { ListWindow } from '../../workers/protocol';
import { useColumns } from './provider';
import { useAsked } from './useAsked';

/** What Sift shows under criteria: a hand that moves is never behind, since only the newest question waits. */
export function useNarrowed(where: string, list: ListWindow) {
  const client = useColumns();
  const [problem, setProblem] = useState<string>();
  /** Criteria while a hand drags: asked for at once, without drawing anything before the answer is here. */
  const draft = useRef<string | undefined>(undefined);
  const { data, error, ask } = useAsked('narrow', { where, list, now: 0 }, (asked) => ({
    ...asked,
    where: draft.current ?? asked.where,
    now: Date.now(),
  }));
  useEffect(() => client?.subscribe(setProblem), [client]);
  const narrowTo = useCallback(
    (next: string | undefined) => {
      draft.current = next;
      void ask();
    },
    [ask],
  );
  return { data, error, problem, ask, narrowTo };
}
