/** What decides which copy stays, in the order in which a person puts it. */
export const KEEP_RULES = ['guarded', 'flagged', 'answered', 'folder', 'earliest'] as const;
export type KeepRule = (typeof KEEP_RULES)[number];

/** A rule of the person's, or one that holds for files alone. */
export type Rule = KeepRule | 'latest';

/** Why a copy stays. */
export const KEEP_REASONS = [...KEEP_RULES, 'latest', 'same'] as const;
export type KeepReason = (typeof KEEP_REASONS)[number];

/** How well a message is kept where it lies, the best first. */
export const KEPT_IN = ['filed', 'archive', 'sent', 'inbox', 'other', 'import'] as const;
export type KeptIn = (typeof KEPT_IN)[number];

/** A copy of a message. */
export interface Copy {
  /** Of its placement. */
  id: number;
  guarded: boolean;
  flagged: boolean;
  answered: boolean;
  keptIn: KeptIn;
  /** Seconds since 1970. */
  received: number;
  /** Whether another lot of the plan takes it, so that it can't be the one that stays. */
  taken: boolean;
}

/** Which copy stays, and why it rather than the next best; undefined where every copy is taken by other lots. */
export interface Kept {
  id: number;
  /** The rule by which it is better than all others; `same` where no rule tells them apart. */
  why: KeepReason;
}

/** Finds the copy that stays. */
export function keptOf(copies: readonly Copy[], order: readonly Rule[]): Kept | undefined {
  const left = copies.filter(({ taken }) => !taken);
  let best = left;
  for (const rule of order) {
    const least = best.reduce((so, copy) => Math.min(so, worth(copy, rule)), Number.POSITIVE_INFINITY);
    best = best.filter((copy) => worth(copy, rule) === least);
    if (best.length === 1) return { id: (best[0] as Copy).id, why: rule };
  }
  // All the same by every rule: the one that the index has known longest.
  const first = best.reduce<Copy | undefined>((one, other) => (one && one.id < other.id ? one : other), undefined);
  return first && { id: first.id, why: 'same' };
}

/** The copies that go: all but the one that stays, those that guards keep, and those that another lot takes already. */
export function goingOf(copies: readonly Copy[], kept: Kept | undefined): number[] {
  if (!kept) return [];
  return copies.filter(({ id, guarded, taken }) => id !== kept.id && !guarded && !taken).map(({ id }) => id);
}

/** The less the better. */
function worth(copy: Copy, rule: Rule): number {
  switch (rule) {
    case 'folder':
      return KEPT_IN.indexOf(copy.keptIn);
    case 'earliest':
      return copy.received;
    case 'latest':
      return -copy.received;
    default:
      return copy[rule] ? 0 : 1;
  }
}
