import { CATEGORIES } from '../core/categories/categories';
import { course, fullAt } from '../core/forecast/full';
import { type Growth, growthOf, growthOfHeld, MOST_MONTHS, together } from '../core/forecast/growth';
import { pastMonths } from '../core/forecast/months';
import { monthlyOf } from '../core/standing/trial';
import type { Account } from '../store/access/accounts';
import type { Database } from '../store/database';
import { monthsOfMail } from '../store/index/inflow';
import { notMailByMonth } from '../store/index/readings';
import { accountLevel } from '../store/plan/level';
import { type StandingLot, standingLots } from '../store/plan/standing';

/** Months to come of which the course is told. */
const MONTHS_AHEAD = 36;

/** When the mailbox is full, by what and how fast, and what would change that. */
export async function forecastOf(database: Database, account: Account, now: Date) {
  const { timeZone, thresholds } = account.settings;
  const starts = pastMonths(now, MOST_MONTHS, timeZone);
  const level = await accountLevel(database, account);
  const complete = level.unread === 0;
  // What was not read yet would count as never having come.
  const months = complete ? await monthsOfMail(database, account, starts) : [];
  const mail = growthOf(months.map((month) => month.bytes));
  // A month's gain needs the month before, too.
  const held = await notMailByMonth(database, account.id, pastMonths(now, MOST_MONTHS + 1, timeZone));
  const notMail = growthOfHeld(held);
  const bytes = mail && together(mail, notMail);
  const messages = growthOf(months.map((month) => month.messages));
  const { used, limit, reading } = level;
  const lots = (await standingLots(database, account.id)).filter(({ trial, state }) => trial && state !== 'off');
  const date = (
    what: 'sending' | 'receiving' | 'full' | 'full-messages',
    growth: Growth | undefined,
    at: number | null,
    held: number,
  ) => (growth && at !== null ? [{ what, at, ...fullAt(now, at - held, growth) }] : []);
  const share = (of: number | undefined) => (of === undefined || limit === null ? null : Math.floor(of * limit));
  return {
    at: now,
    complete,
    months: months.map((month, at) => ({
      from: starts[starts.length - 1 - months.length + at] as Date,
      messages: month.messages,
      bytes: month.bytes,
    })),
    growth: bytes && messages ? { bytes: rounded(bytes), messages: rounded(messages), months: bytes.months } : null,
    notMail: {
      bytes: Math.max(0, level.other),
      growth: notMail ? { ...rounded(notMail), months: notMail.months } : null,
    },
    categories: bytes
      ? CATEGORIES.map((category) => ({
          category,
          messages: monthly(months, (month) => month.byCategory.get(category)?.messages ?? 0),
          bytes: monthly(months, (month) => month.byCategory.get(category)?.bytes ?? 0),
        }))
      : [],
    dates: [
      ...date('sending', bytes, share(thresholds.sending), used),
      ...date('receiving', bytes, share(thresholds.receiving), used),
      ...date('full', bytes, limit, used),
      ...date('full-messages', messages, reading?.messageLimit ?? null, reading?.messages ?? 0),
    ],
    changes: bytes && limit !== null ? changes(lots, now, limit, used, bytes) : [],
    changed: bytes && lots.length > 0 ? likely(...less(lots, used, bytes)) : [],
    used,
    limit,
    course: bytes
      ? course(used, bytes, MONTHS_AHEAD).map(({ low, likely, high }) => ({
          low: Math.round(low),
          likely: Math.round(likely),
          high: Math.round(high),
        }))
      : [],
  };
}

function monthly<T>(months: readonly T[], of: (month: T) => number): number {
  return Math.round(months.reduce((sum, month) => sum + of(month), 0) / months.length);
}

function rounded({ mean, spread }: Growth) {
  return { mean: Math.round(mean), spread: Math.round(spread) };
}

/** What is used, and how it grows, once standing lots take what they would, and it is purged. */
function less(lots: readonly StandingLot[], used: number, growth: Growth): [number, Growth] {
  let [left, mean] = [used, growth.mean];
  for (const { trial } of lots)
    if (trial) {
      left -= trial.now.bytes;
      mean -= monthlyOf(trial).bytes;
    }
  return [Math.max(0, left), { ...growth, mean: Math.max(0, mean) }];
}

/** When it is full with each standing lot and those before it. Where several would take the same, that counts for each of them. */
function changes(lots: readonly StandingLot[], now: Date, limit: number, used: number, growth: Growth) {
  return lots.map(({ id, label, state }, at) => {
    const [left, slower] = less(lots.slice(0, at + 1), used, growth);
    return { standing: id, label, isOn: state === 'on', likely: fullAt(now, limit - left, slower).likely };
  });
}

function likely(used: number, growth: Growth): number[] {
  return course(used, growth, MONTHS_AHEAD).map((range) => Math.round(range.likely));
}
