import { keepPreviousData, useQuery } from '@tanstack/react-query';
import type { BulkSender } from '../../contract/types';
import { useAccount } from './account';
import { call } from './call';

export interface BulkSenders {
  senders: BulkSender[];
  unread: number;
  reading: boolean;
}

/** Senders that can be asked to stop, and what came of it. */
export function useBulkSenders() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['bulk-senders', account.id],
    queryFn: () => call<BulkSenders>(`${base}/bulk-senders`),
    placeholderData: keepPreviousData,
    refetchInterval: ({ state }) => (state.data && isGoing(state.data) ? 1_500 : 60_000),
  });
}

function isGoing({ reading, senders }: BulkSenders): boolean {
  return reading || senders.some(({ state }) => state === 'queued' || state === 'sending');
}
