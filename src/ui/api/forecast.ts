import { keepPreviousData, useQuery } from '@tanstack/react-query';
import type { Forecast } from '../../contract/types';
import { useAccount } from './account';
import { call } from './call';

/** Milliseconds of a month, on average over the Gregorian calendar's 400 years. */
export const MONTH_MS = (146_097 / 4_800) * 86_400_000;

/** When the mailbox is full. */
export function useForecast() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['forecast', account.id],
    queryFn: () => call<Forecast>(`${base}/forecast`),
    placeholderData: keepPreviousData,
    staleTime: 60_000,
  });
}

/**
 * By how many days the mailbox is full later, if so many octets a year came no more; null where it is not foreseen to be full, or
 * would not be any more.
 */
export function daysWon({ at, dates, growth }: Forecast, bytesAYear: number): number | null {
  const full = dates.find(({ what }) => what === 'full');
  if (!growth || !full?.likely) return null;
  const months = Math.max(0, Date.parse(full.likely) - Date.parse(at)) / MONTH_MS;
  const slower = growth.bytes.mean - bytesAYear / 12;
  return slower <= 0 ? null : ((months * growth.bytes.mean) / slower - months) * (MONTH_MS / 86_400_000);
}

/** The first day on which something no longer goes on as it does, of all that is likely within ten years. */
export function firstFull({ dates }: Forecast): Forecast['dates'][number] | undefined {
  return dates
    .filter(({ what, likely }) => likely !== null && (what === 'full' || what === 'full-messages'))
    .sort((a, b) => Date.parse(a.likely as string) - Date.parse(b.likely as string))[0];
}
