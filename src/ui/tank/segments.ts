import type { Gauge } from '../../core/level/gauge';

/** The level cut into what lies upon what, from the bottom, in the measure of its gauge. */
export interface Segments {
  other: number;
  kept: number;
  trash: number;
  plan: number;
  /** Height of the scale: the limit, or what is used where that is more or no limit is known. */
  full: number;
}

/**
 * What can go lies on top: not mail, then mail kept, then trash, then the plan. What of the plan lies in the trash
 * already is drawn as trash, so that the upper edge of what is kept is the level after plan and purge.
 */
export function segmentsOf({ used, limit, after, mail, trash, trashGuarded, other }: Gauge): Segments {
  const plan = Math.max(0, used - after - (trash - trashGuarded));
  return { other, kept: Math.max(0, mail - plan), trash, plan, full: Math.max(limit ?? 0, used, 1) };
}
