import { CATEGORIES } from '../core/categories/categories';
import { course, fullAt } from '../core/forecast/full';
import { type Growth, growthOf, MOST_MONTHS } from '../core/forecast/growth';
import { pastMonths } from '../core/forecast/months';
import type { Account } from '../store/access/accounts';
import type { Database } from '../store/database';
import { monthsOfMail } from '../store/index/inflow';
import { accountLevel } from '../store/plan/level';

/** Months to come of which the course is told. */
const MONTHS_AHEAD = 36;

/** When the mailbox is full, as the API tells it. */
export async function shownForecast(database: Database, account: Account, now: Date) {
  const { timeZone, thresholds } = account.settings;
  const starts = pastMonths(now, MOST_MONTHS, timeZone);
  const level = await accountLevel(database, account);
  const complete = level.unread === 0;
  // What was not read yet would count as never having come.
  const months = complete ? await monthsOfMail(database, account, starts) : [];
  const bytes = growthOf(months.map((month) => month.bytes));
  const messages = growthOf(months.map((month) => month.messages));
  const { used, limit, reading } = level;
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
