import type { Fill, Fills } from './figures';

/** What came to a mailbox over a stretch of days, what went left out: cleaning is no negative growth. */
export interface Grown {
  bytes: number;
  messages: number;
  /** From the first measurement to the last. */
  days: number;
}

/** Days below which nothing is told of growth. */
export const FEWEST_DAYS = 7;

const DAY_MS = 86_400_000;
/** Days beyond which no day is told: ten years. */
const HORIZON_DAYS = 3_653;

/** When one of the limits is reached, and which. */
export interface FullOn {
  at: Date;
  by: 'bytes' | 'messages';
}

/** When a mailbox is full if it goes on growing as it did; null where that is not known, or not within ten years. */
export function fullOn(now: Date, fills: Fills, grown: Grown | null): FullOn | null {
  const found = (['bytes', 'messages'] as const).flatMap((by) => {
    const days = daysLeft(fills[by], grown?.[by] ?? 0, grown?.days ?? 0);
    return days === null ? [] : [{ by, at: new Date(now.getTime() + days * DAY_MS) }];
  });
  found.sort((a, b) => a.at.getTime() - b.at.getTime());
  return found[0] ?? null;
}

function daysLeft(fill: Fill | null, grown: number, days: number): number | null {
  if (!fill || fill.limit === null) return null;
  const room = fill.limit - fill.used;
  if (room <= 0) return 0;
  if (days < FEWEST_DAYS || grown <= 0) return null;
  const left = (room * days) / grown;
  return left > HORIZON_DAYS ? null : left;
}
