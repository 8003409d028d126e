import { keepPreviousData, useQuery } from '@tanstack/react-query';
import type { Amount, Run, TrashState } from '../../contract/types';
import { useAccount, useChange } from '../../ui/api/account';
import { call } from '../../ui/api/call';

/** What lies in the trash, by what brought it there. */
export function useTrash() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['trash', account.id],
    queryFn: () => call<TrashState>(`${base}/trash`),
    placeholderData: keepPreviousData,
  });
}

export type RunRequest = {
  label?: string;
  action: 'purge' | 'restore';
  /** What is touched at most: what was shown. */
  expect?: Amount;
  asOf?: number;
  before?: string;
  to?: string;
} & (
  | { where: string }
  | { ids: number[] }
  | { run: number }
  | { lots: number[] }
  | { folder: string; subfolders?: boolean }
);

/**
 * Starts a run on what lies in the trash.
 *
 * @param then what follows once it is accepted.
 */
export function useRun(then?: () => void) {
  return useChange<RunRequest, Run>(
    () => '/runs',
    'POST',
    (body) => body,
    ['runs', 'level', 'messages', 'trash'],
    then,
  );
}
