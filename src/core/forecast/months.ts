import { TZDate } from '@date-fns/tz';
import { addMonths, startOfMonth } from 'date-fns';

/**
 * The starts of the months before the one that holds an instant, and the start of that one, where the user is; the oldest first.
 *
 * @param months how many are over.
 */
export function pastMonths(now: Date, months: number, timeZone: string): Date[] {
  const current = startOfMonth(new TZDate(now.getTime(), timeZone));
  return Array.from({ length: months + 1 }, (_, at) => new Date(addMonths(current, at - months).getTime()));
}
