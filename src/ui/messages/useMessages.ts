import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import type { Amount, Message } from '../../contract/types';
import { useAccount } from '../api/account';
import { ApiProblem, call, query } from '../api/call';
import { useMore } from '../api/more';

export interface MessageQuery {
  where: string;
  scope: 'mail' | 'trash' | 'archive';
  order: string;
  direction: string;
}

interface Page {
  total: Amount;
  messages: Message[];
  version: number;
  next?: string;
}

const PAGE = 300;

/** The messages that match, page after page as the list is scrolled, with the exact sum of all of them. */
export function useMessages(asked: MessageQuery) {
  const { account, base } = useAccount();
  const result = useInfiniteQuery({
    queryKey: ['messages', account.id, asked],
    queryFn: ({ pageParam, signal }) =>
      call<Page>(`${base}/messages${query({ ...asked, limit: PAGE, after: pageParam })}`, { signal }),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next,
    placeholderData: keepPreviousData,
    // A text in the messages is asked of the mail server, which may take its time.
    retry: (tries, error) => error instanceof ApiProblem && error.status === 503 && tries < 60,
    retryDelay: 2_000,
  });
  const rows = useMemo(() => result.data?.pages.flatMap(({ messages }) => messages) ?? [], [result.data]);
  const more = useMore(result);
  return {
    rows,
    total: result.data?.pages[0]?.total,
    /** Of the index, when the first page was read. */
    version: result.data?.pages[0]?.version,
    error: result.error,
    more,
    refetch: result.refetch,
    isPending: result.isPending,
  };
}
