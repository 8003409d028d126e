import { useQuery } from '@tanstack/react-query';
import type { Round, RoundMailbox } from '../../../contract/types';
import { call } from '../../../ui/api/call';
import { useOperator } from '../useHost';

/** A round with its mailboxes. */
export interface WholeRound {
  round: Round;
  mailboxes: RoundMailbox[];
}

/** Nothing tells this page of changes: it asks often while a round gets on, else now and then. */
const SOON_MS = 1_500;
const LATER_MS = 60_000;

function getsOn({ state }: Round): boolean {
  return state === 'trying' || state === 'working';
}

export function useRounds() {
  const { id, base } = useOperator();
  return useQuery({
    queryKey: ['host', id, 'rounds'],
    queryFn: () => call<{ rounds: Round[] }>(`${base}/rounds`),
    refetchInterval: ({ state }) => (state.data?.rounds.some(getsOn) ? SOON_MS : LATER_MS),
  });
}

export function useRound(round: number) {
  const { id, base } = useOperator();
  return useQuery({
    queryKey: ['host', id, 'rounds', round],
    queryFn: () => call<WholeRound>(`${base}/rounds/${round}`),
    // What is stopped may have runs that end their batch.
    refetchInterval: ({ state }) =>
      state.data && (getsOn(state.data.round) || state.data.mailboxes.some((each) => each.state === 'working'))
        ? SOON_MS
        : LATER_MS,
  });
}
