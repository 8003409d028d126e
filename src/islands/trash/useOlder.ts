import { useQuery } from '@tanstack/react-query';
import type { Amount } from '../../contract/types';
import { useAccount } from '../../ui/api/account';
import { call, query } from '../../ui/api/call';

const DAY_MS = 86_400_000;

/** What of the trash went in more than so many days ago and is not guarded; undefined where no number is typed. */
export function useOlder(days: string): (Amount & { before: string; version: number }) | undefined {
  const { account, base } = useAccount();
  // Whole minutes, so that the same question is not asked anew at every look.
  const before = new Date(Math.floor(Date.now() / 60_000) * 60_000 - Number(days) * DAY_MS).toISOString();
  const found = useQuery({
    queryKey: ['messages', account.id, 'older', before],
    queryFn: () =>
      call<{ total: Amount; version: number }>(
        `${base}/messages${query({ where: 'not guarded', scope: 'trash', limit: 1, before })}`,
      ),
    enabled: days !== '',
  }).data;
  return days === '' || !found ? undefined : { ...found.total, before, version: found.version };
}
