import { TZDate } from '@date-fns/tz';

/**
 * On which days something is done by itself. Days are days of the calendar where the person is, `YYYY-MM-DD`; each is done once,
 * whatever becomes of the clock on it.
 */
export interface Rhythm {
  unit: 'day' | 'week' | 'month';
  /** Every so many of them. */
  every: number;
  /** The day of the week (1 is Monday, ISO 8601), or of the month: a month that is shorter has it on its last day. Null of days. */
  day: number | null;
  /** The first day on which it may be; what is counted begins with it. */
  from: string;
  /** When, by the clock there: `HH:MM`. */
  at: string;
}

export const RHYTHM_UNITS = ['day', 'week', 'month'] as const satisfies readonly Rhythm['unit'][];

const DAY_MS = 86_400_000;

/** The first day of a rhythm that comes after another day; that day need not be one of it. */
export function dayAfter(rhythm: Rhythm, day: string): string {
  const from = numberOf(rhythm.from);
  const after = numberOf(day);
  switch (rhythm.unit) {
    case 'day':
      return nextStep(from, rhythm.every, after);
    case 'week': {
      // Day 0, 1 January 1970, was a Thursday.
      const weekday = ((((from + 3) % 7) + 7) % 7) + 1;
      return nextStep(from + (((rhythm.day ?? 1) - weekday + 7) % 7), 7 * rhythm.every, after);
    }
    case 'month': {
      const first = monthOf(rhythm.from);
      const dayOf = (step: number) => dayInMonth(first + step * rhythm.every, rhythm.day ?? 1);
      // A day of the first month that was before is left out, as RFC 5545 §3.3.10 leaves out what is before DTSTART.
      let step = Math.max(0, Math.floor((monthOf(day) - first) / rhythm.every));
      while (dayOf(step) <= after || dayOf(step) < from) step++;
      return written(dayOf(step));
    }
  }
}

/** Of the days from `first` on, every `step` days, the first after another. */
function nextStep(first: number, step: number, after: number): string {
  const steps = after < first ? 0 : Math.floor((after - first) / step) + 1;
  return written(first + steps * step);
}

/**
 * The instant at which a clock shows a time on a day. A time that the clock leaps over counts by the offset before the leap, and
 * of one that comes twice the first is meant (RFC 5545 §3.3.5).
 */
export function instantAt(day: string, time: string, timeZone: string): Date {
  const asUtc = Date.parse(`${day}T${time}:00Z`);
  const offsetAt = (instant: number) => -new TZDate(instant, timeZone).getTimezoneOffset() * 60_000;
  // No offset is as long as a day, so that these two are those before and after a leap on it.
  const [before, after] = [offsetAt(asUtc - DAY_MS), offsetAt(asUtc + DAY_MS)];
  const first = asUtc - before;
  return new Date(offsetAt(first) === before || offsetAt(asUtc - after) !== after ? first : asUtc - after);
}

/** Days since 1970. */
function numberOf(day: string): number {
  return Date.parse(`${day}T00:00:00Z`) / DAY_MS;
}

function written(number: number): string {
  return new Date(number * DAY_MS).toISOString().slice(0, 10);
}

/** Months since the year 0. */
function monthOf(day: string): number {
  const [year, month] = day.split('-').map(Number) as [number, number];
  return year * 12 + month - 1;
}

function dayInMonth(month: number, day: number): number {
  const [year, ofYear] = [Math.floor(month / 12), month % 12];
  const last = new Date(Date.UTC(year, ofYear + 1, 0)).getUTCDate();
  return Date.UTC(year, ofYear, Math.min(day, last)) / DAY_MS;
}
