import type { Fate } from '../plan/fates';

/** Fates that a standing lot may have: never a purge. */
export const STANDING_FATES = ['trash', 'archive', 'strip'] as const satisfies readonly Fate[];
export type StandingFate = (typeof STANDING_FATES)[number];
