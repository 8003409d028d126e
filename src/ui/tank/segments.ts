import type { Level } from '../../contract/types';

/** The level cut into what lies upon what, from the bottom, in octets. */
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
export function segmentsOf(level: Level): Segments {
  const goes = level.used - level.after;
  const plan = Math.max(0, goes - (level.trash.bytes - level.trashGuarded.bytes));
  return {
    other: level.other,
    kept: Math.max(0, level.mail.bytes - plan),
    trash: level.trash.bytes,
    plan,
    full: Math.max(level.limit ?? 0, level.used, 1),
  };
}
