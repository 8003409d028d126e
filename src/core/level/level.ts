/** Messages and octets. */
export interface Amount {
  messages: number;
  bytes: number;
}

/** Where the user wants to get: exactly one of these. */
export type Target = { share: number } | { bytes: number } | { messages: number };

export interface LevelParts {
  /** Octets; the server's figure where it has one, else mail and trash together. */
  used: number;
  limit: number | null;
  /** All but the trash, the plan included. */
  mail: Amount;
  trash: Amount;
  /** The union of all lots, what of it lies in the trash included. */
  plan: Amount;
  /** The union of plan and trash: what goes when the plan is run and the trash purged. */
  planAndTrash: Amount;
}

export interface Level extends LevelParts {
  /** Octets in use that are not mail that we counted; never negative. */
  other: number;
  /** Negative where the server counts less than we do (copies counted once, or a lagging figure); else 0. */
  difference: number;
  /** Octets in use after the plan was run and the trash purged. */
  after: number;
}

export function level(parts: LevelParts): Level {
  const rest = parts.used - parts.mail.bytes - parts.trash.bytes;
  return {
    ...parts,
    other: Math.max(0, rest),
    difference: Math.min(0, rest),
    after: Math.max(0, parts.used - parts.planAndTrash.bytes),
  };
}

/** The octets that the target allows; null where it is a share of an unknown limit, or a number of messages. */
export function targetBytes(target: Target, limit: number | null): number | null {
  if ('bytes' in target) return target.bytes;
  if ('share' in target) return limit === null ? null : Math.floor(target.share * limit);
  return null;
}
