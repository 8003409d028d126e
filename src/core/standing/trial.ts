import type { Amount } from '../level/level';
import type { Rhythm } from '../rhythm/rhythm';

/** Months of the past on which a standing lot is tried. */
export const TRIAL_MONTHS = 12;

/** Messages that a trial names, of those that somebody has looked at. */
export const MOST_NAMED = 200;

/** What of some messages says that somebody cared for them: as their flags are now. */
export interface Cared {
  seen: number;
  answered: number;
  flagged: number;
}

/** What a standing lot would have taken in the past, of what is still there. Guards are taken off. */
export interface Trial {
  /** What it would take now, all that has gathered. */
  now: Amount & Cared;
  /** What would have come to it in each month that is over, the oldest first. */
  months: (Amount & Cared & { from: string })[];
  /** Ids of messages that it would have taken and that are flagged, answered or read, in this order; only so many. */
  cared: number[];
}

/** How many dates a rhythm has in a month, on average over the Gregorian calendar. */
function datesInMonth({ unit, every }: Rhythm): number {
  return (unit === 'month' ? 1 : 146_097 / 4_800 / (unit === 'week' ? 7 : 1)) / every;
}

/**
 * How many messages the trial foresees at one date, at most: the first date takes all that has gathered. Later ones take what came
 * to it since the date before: the largest of as many months in a row as lie between two dates, or that share of the largest month.
 */
export function foreseen({ now, months }: Trial, rhythm: Rhythm, isFirst: boolean): number {
  if (isFirst) return now.messages;
  const between = 1 / datesInMonth(rhythm);
  const whole = Math.min(Math.max(1, Math.ceil(between)), months.length);
  let largest = 0;
  for (let at = 0; at + whole <= months.length; at++)
    largest = Math.max(
      largest,
      months.slice(at, at + whole).reduce((sum, { messages }) => sum + messages, 0),
    );
  // Of less than a month its share, of more than the trial knows as many times that.
  return Math.ceil((largest * between) / whole);
}

/** How many messages it takes at one date without asking: at most twice what was foreseen, and at most what the person named. */
export function ceilingOf(trial: Trial, rhythm: Rhythm, most: number | null, isFirst: boolean): number {
  return Math.min(2 * foreseen(trial, rhythm, isFirst), most ?? Number.POSITIVE_INFINITY);
}

/** What comes to it in a month, on average. */
export function monthlyOf({ months }: Trial): Amount {
  const mean = (of: (month: Amount) => number) =>
    Math.round(months.reduce((sum, month) => sum + of(month), 0) / Math.max(1, months.length));
  return { messages: mean(({ messages }) => messages), bytes: mean(({ bytes }) => bytes) };
}
