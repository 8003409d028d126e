/** Months under which nothing is promised, and over which nothing more is learned: habits change. */
export const FEWEST_MONTHS = 3;
export const MOST_MONTHS = 12;

/** How many quartile distances above the upper quartile a month is far out (Tukey: Exploratory Data Analysis, 1977, §2D). */
const FAR_OUT = 3;

/** Of Student's t with so many degrees of freedom, what one in ten exceeds (common tables; from memory). */
const ONE_IN_TEN = [3.078, 1.886, 1.638, 1.533, 1.476, 1.44, 1.415, 1.397, 1.383, 1.372, 1.363];

/** How much comes in and stays in a month, by months that are over; in octets, or in messages. */
export interface Growth {
  /** Of a month that is like those before. */
  mean: number;
  /** How much one month differs from another (standard deviation). */
  spread: number;
  /** How many months tell it. */
  months: number;
}

/** What is held after some time. Of ten times it is under `low` once, and over `high` once. */
export interface Range {
  low: number;
  likely: number;
  high: number;
}

/**
 * Learns from months that are over, the oldest first. One month that is far out, such as one in which a film came, counts as the
 * largest that would not be, so that it neither makes the rule nor is forgotten. Several that are far out are a habit.
 *
 * @returns undefined where there are too few.
 */
export function growthOf(months: readonly number[]): Growth | undefined {
  const known = months.slice(-MOST_MONTHS);
  if (known.length < FEWEST_MONTHS) return undefined;
  const sorted = [...known].sort((a, b) => a - b);
  const [lower, upper] = [quantile(sorted, 0.25), quantile(sorted, 0.75)];
  const fence = upper + FAR_OUT * (upper - lower);
  const isHabit = known.filter((month) => month > fence).length > 1;
  const counted = isHabit ? known : known.map((month) => Math.min(month, fence));
  const mean = counted.reduce((sum, month) => sum + month, 0) / counted.length;
  const squares = counted.reduce((sum, month) => sum + (month - mean) ** 2, 0);
  return { mean, spread: Math.sqrt(squares / (counted.length - 1)), months: counted.length };
}

/**
 * How much comes in within so many months from now: the sum of as many months like those before. Both are unsure, the months
 * to come and the mean itself, so that the range widens faster than the square root of time.
 */
export function grownBy({ mean, spread, months }: Growth, after: number): Range {
  const likely = mean * after;
  const either = (ONE_IN_TEN[months - 2] as number) * spread * Math.sqrt(after + after ** 2 / months);
  return { low: Math.max(0, likely - either), likely, high: likely + either };
}

/**
 * Learns from how much was held in each month that is over, the oldest first; null where nobody looked. What was gained between
 * two looks came in equal parts in the months between them. What only shrinks does not grow: nobody promises that it goes on.
 *
 * @returns undefined where there are too few.
 */
export function growthOfHeld(held: readonly (number | null)[]): Growth | undefined {
  const gains: number[] = [];
  let last: { month: number; amount: number } | undefined;
  for (const [month, amount] of held.entries()) {
    if (amount === null) continue;
    if (last) gains.push(...Array(month - last.month).fill((amount - last.amount) / (month - last.month)));
    last = { month, amount };
  }
  const growth = growthOf(gains);
  return growth && { ...growth, mean: Math.max(0, growth.mean) };
}

/** Two that grow beside each other, independently; by the fewer months of the two. */
export function together(one: Growth, other: Growth | undefined): Growth {
  if (!other) return one;
  return {
    mean: one.mean + other.mean,
    spread: Math.hypot(one.spread, other.spread),
    months: Math.min(one.months, other.months),
  };
}

/** Linear between the two that are nearest. */
function quantile(sorted: readonly number[], share: number): number {
  const at = (sorted.length - 1) * share;
  const below = sorted[Math.floor(at)] as number;
  const above = sorted[Math.ceil(at)] as number;
  return below + (above - below) * (at - Math.floor(at));
}
