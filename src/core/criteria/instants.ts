import { TZDate } from '@date-fns/tz';
import { addDays, subMonths, subYears } from 'date-fns';
import type { AgeUnit } from './tree';

/**
 * The instant before which a message is older than an age: days and weeks are 86,400 s and seven of them (RFC 5032
 * counts in seconds), months and years calendar units in the user's time zone.
 */
export function instantOfAge(number: number, unit: AgeUnit, now: Date, timeZone: string): Date {
  if (unit === 'd' || unit === 'w') return new Date(now.getTime() - number * (unit === 'w' ? 7 : 1) * 86_400_000);
  const here = new TZDate(now, timeZone);
  return new Date((unit === 'mo' ? subMonths(here, number) : subYears(here, number)).getTime());
}

/** The first instant of a day in a time zone, and of the day after it. */
export function instantsOfDay(day: string, timeZone: string): { start: Date; end: Date } {
  const [year, month, date] = day.split('-').map(Number) as [number, number, number];
  const start = new TZDate(year, month - 1, date, timeZone);
  if (year < 100) start.setFullYear(year);
  return { start: new Date(start.getTime()), end: new Date(addDays(start, 1).getTime()) };
}

/** The day in which an instant lies in a time zone, `YYYY-MM-DD`. */
export function dayOfInstant(seconds: number, timeZone: string): string {
  const day = new TZDate(seconds * 1000, timeZone);
  const pad = (number: number, length: number) => `${number}`.padStart(length, '0');
  return `${pad(day.getFullYear(), 4)}-${pad(day.getMonth() + 1, 2)}-${pad(day.getDate(), 2)}`;
}
