import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import type {
  DoubledGroup,
  Echo,
  FileGroup,
  PictureSeries,
  Proven,
  Repeats,
  SpacePictureSeries,
  TwinGroup,
} from '../../contract/types';
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
    queryFn: () => call<Proven>(`${base}/repeats/proven`),
    placeholderData: keepPreviousData,
    staleTime: 30_000,
  });
}

/** Whether anything is being read to be compared. */
export function isComparing(repeats: Repeats | undefined): boolean {
  return repeats?.proofs.some(({ state }) => state === 'queued' || state === 'running') === true;
}

/** A list of what exists more than once, a page at a time: that first from which most is won. */
function useList<T extends { next?: string }>(name: string, limit: number) {
  const { account, base } = useAccount();
  return useInfiniteQuery({
    queryKey: ['repeats', account.id, name],
    queryFn: ({ pageParam }) =>
      call<T>(`${base}/repeats/${name}?limit=${limit}${pageParam ? `&after=${encodeURIComponent(pageParam)}` : ''}`),
    initialPageParam: '',
    getNextPageParam: ({ next }) => next,
    placeholderData: keepPreviousData,
  });
}

export const useTwins = () => useList<{ groups: TwinGroup[]; next?: string }>('twins', 100);
export const useRepeatedFiles = () => useList<{ groups: FileGroup[]; next?: string }>('files', 50);
export const usePictureSeries = () => useList<{ series: PictureSeries[]; next?: string }>('pictures', 20);
export const useSpacePictureSeries = () =>
  useList<{ series: SpacePictureSeries[]; next?: string }>('space-pictures', 20);
export const useDoubledFiles = () => useList<{ groups: DoubledGroup[]; next?: string }>('spaces', 50);
export const useEchoes = () => useList<{ echoes: Echo[]; next?: string }>('echoes', 100);

/** What is asked for anew once copies were marked. */
export const REPEATS_STALE = ['repeats', ...OF_THE_PLAN];
