import { type Growth, grownBy, type Range } from './growth';

/** Months beyond which nothing is told: ten years. */
export const HORIZON_MONTHS = 120;

/** Days of a month, on average over the Gregorian calendar's 400 years. */
const DAYS_OF_MONTH = 146_097 / 4_800;
const DAY_MS = 86_400_000;

/** When something is full. Null: not within ten years. */
export interface FullAt {
  /** One time in ten it is full before. */
  earliest: Date | null;
  likely: Date | null;
  /** One time in ten it is full later. */
  latest: Date | null;
}

/**
 * When so much room is used up.
 *
 * @param room octets or messages; none and less is full now.
 */
export function fullAt(now: Date, room: number, growth: Growth): FullAt {
  const at = (part: keyof Range) => {
    const months = monthsUntil((after) => grownBy(growth, after)[part] >= room);
    return months === undefined ? null : new Date(now.getTime() + months * DAYS_OF_MONTH * DAY_MS);
  };
  return { earliest: at('high'), likely: at('likely'), latest: at('low') };
}

/** From when on something holds that, once it holds, goes on to hold; by halving. */
function monthsUntil(holds: (months: number) => boolean): number | undefined {
  if (holds(0)) return 0;
  if (!holds(HORIZON_MONTHS)) return undefined;
  let [before, after] = [0, HORIZON_MONTHS];
  // To an hour.
  while (after - before > 1 / 720) {
    const middle = (before + after) / 2;
    if (holds(middle)) after = middle;
    else before = middle;
  }
  return after;
}

/** How much is held at the end of each month from now on: points for a chart. */
export function course(used: number, growth: Growth, months: number): Range[] {
  return Array.from({ length: months + 1 }, (_, after) => {
    const { low, likely, high } = grownBy(growth, after);
    return { low: used + low, likely: used + likely, high: used + high };
  });
}
