import type { Amount } from '../level/level';
import type { Rhythm } from '../rhythm/rhythm';
import type { StandingFate } from '../standing/terms';

/** What one decision for several mailboxes can be. */
export const ROUND_KINDS = ['purge', 'empty', 'standing'] as const;
export type RoundKind = (typeof ROUND_KINDS)[number];

/** How far a mailbox of a round is, in the order in which they follow; the last four are ends. */
export const ROUND_STATES = [
  ...(['waiting', 'opening', 'scanning', 'ready', 'queued', 'working'] as const),
  ...(['done', 'nothing', 'failed', 'left'] as const),
] as const;
export type RoundState = (typeof ROUND_STATES)[number];

/** Deletes what lies in the trash, in junk, or in both, longer than so many days. */
export interface PurgeTerms {
  days: number;
  trash: boolean;
  junk: boolean;
  /**
   * Whether what lies in the trash is taken by the day on which it was received, where the server does not tell when it went there
   * (SAVEDATE, RFC 8514). Otherwise it stays.
   */
  byReceipt: boolean;
}

/** One standing lot in each mailbox. */
export interface StandingRoundTerms {
  label: string;
  where: string;
  fate: StandingFate;
  rhythm: Rhythm;
  most: number | null;
  purgeAfterDays: number | null;
}

export type RoundTerms =
  | { kind: 'purge'; terms: PurgeTerms }
  | { kind: 'empty'; terms: Record<string, never> }
  | { kind: 'standing'; terms: StandingRoundTerms };

/** What a trial says of a mailbox besides what would go. */
export interface Tried {
  /** Of a purge: what goes from either folder, messages that guards keep, and those of which nobody knows since when they lie there. */
  trash?: Amount;
  junk?: Amount;
  kept?: number;
  undated?: number;
  /** Of an emptying: messages that stay, since they are held or could not be saved. */
  stays?: number;
  /** Of a standing lot: what would come to it in a month. */
  monthly?: Amount;
  /** Of what it would take now: messages that somebody flagged or answered. */
  cared?: number;
}

/** Whether a mailbox of a round is tried still. */
export function isBeingTried(state: RoundState): boolean {
  return state === 'waiting' || state === 'opening' || state === 'scanning';
}

/** Whether something is still to come for a mailbox of a round. */
export function isOpenState(state: RoundState): boolean {
  return isBeingTried(state) || state === 'ready' || state === 'queued' || state === 'working';
}
