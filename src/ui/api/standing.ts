import { keepPreviousData, useQuery } from '@tanstack/react-query';
import type { StandingLot } from '../../contract/types';
import { useAccount } from './account';
import { call } from './call';

/** What goes by itself. */
export function useStandingLots() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['standing', account.id],
    queryFn: () => call<{ standingLots: StandingLot[] }>(`${base}/standing-lots`),
    placeholderData: keepPreviousData,
    // A date goes through several steps that nothing else tells of.
    refetchInterval: ({ state }) => (state.data?.standingLots.some(isGoing) ? 2_000 : 60_000),
  });
}

function isGoing({ dates }: StandingLot): boolean {
  return dates.some(({ state }) => state === 'scanning' || state === 'saving' || state === 'running');
}

/** What is asked for anew when a standing lot changes. */
export const STANDING_STALE = ['standing', 'forecast', 'lots', 'plan'];
