import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import type { ProvenCopies, Repeats, TwinGroup } from '../../contract/types';
import { OF_THE_PLAN, useAccount } from './account';
import { call } from './call';

/** What exists more than once, and how far it is known. */
export function useRepeats() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['repeats', account.id, 'summary'],
    queryFn: () => call<Repeats>(`${base}/repeats`),
    placeholderData: keepPreviousData,
    staleTime: 30_000,
    // Events tell how far it is; whether it waits they don't.
    refetchInterval: ({ state }) => (isComparing(state.data) ? 2_000 : false),
  });
}

/** How much was proven to exist more than once, for places that need no more. */
export function useProvenCopies() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['repeats', account.id, 'proven'],
    queryFn: () => call<ProvenCopies>(`${base}/repeats/proven`),
    placeholderData: keepPreviousData,
    staleTime: 30_000,
  });
}

/** Whether messages are being read to be compared. */
export function isComparing(repeats: Repeats | undefined): boolean {
  return repeats?.proof?.state === 'queued' || repeats?.proof?.state === 'running';
}

/** Messages that exist more than once, those first from which most is won. */
export function useTwins() {
  const { account, base } = useAccount();
  return useInfiniteQuery({
    queryKey: ['repeats', account.id, 'twins'],
    queryFn: ({ pageParam }) =>
      call<{ groups: TwinGroup[]; next?: string }>(
        `${base}/repeats/twins?limit=100${pageParam ? `&after=${encodeURIComponent(pageParam)}` : ''}`,
      ),
    initialPageParam: '',
    getNextPageParam: ({ next }) => next,
    placeholderData: keepPreviousData,
  });
}

/** What is asked for anew once copies were marked. */
export const REPEATS_STALE = ['repeats', ...OF_THE_PLAN];
