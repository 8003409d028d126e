import { keepPreviousData, useQuery } from '@tanstack/react-query';
import type { Archive, Bag, RetentionState } from '../../contract/types';
import { useAccount } from './account';
import { call } from './call';

/** What lies in the archive, and how safe it is. */
export function useArchive() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['archive', account.id],
    queryFn: () => call<Archive>(`${base}/archive`),
    placeholderData: keepPreviousData,
    // Words are read behind everything else.
    refetchInterval: ({ state }) => (state.data && state.data.unread > 0 ? 3_000 : false),
  });
}

/** All bags, newest first. */
export function useBags() {
  const { account, base } = useAccount();
  return useQuery({ queryKey: ['bags', account.id], queryFn: () => call<{ bags: Bag[] }>(`${base}/bags`) });
}

/** The bags that stay on this machine, newest first. */
export function useKeptBags() {
  const found = useBags();
  const bags = found.data?.bags.filter(
    ({ place, state }) => place === 'here' && state !== 'erased' && state !== 'cancelled',
  );
  return { bags, error: found.error, refetch: found.refetch };
}

/** Whether every message of the last years is saved under a hold every night. */
export function useRetention() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['retention', account.id],
    queryFn: () => call<RetentionState>(`${base}/retention`),
    placeholderData: keepPreviousData,
    refetchInterval: 30_000,
  });
}
