import type { Gauge } from '../../core/level/gauge';

/** The level cut into what lies upon what, from the bottom, in the measure of its gauge. */
export interface Segments {
  /** Neither mail nor files. */
  other: number;
  files: number;
  pictures: number;
  kept: number;
  trash: number;
  plan: number;
  /** Height of the scale: the limit, or what is used where that is more or no limit is known. */
  full: number;
}

/**
 * What can go lies on top: what is unknown, then files, then mail kept, then trash, then the plan. What of the plan lies in the trash
 * already is drawn as trash, so that the upper edge of what is kept is the level after plan and purge.
 */
export function segmentsOf(gauge: Gauge): Segments {
  const { used, limit, after, mail, trash, trashGuarded, other, files, pictures, plannedFiles } = gauge;
  const plan = Math.max(0, used - after - (trash - trashGuarded));
  const kept = Math.max(0, mail - Math.max(0, plan - plannedFiles));
  return { other, files, pictures, kept, trash, plan, full: Math.max(limit ?? 0, used, 1) };
}
