/** Used as the server says (null without quota), and counted as the sum of sizes, to the octet. */
export interface QuotaSnapshot {
  used: number | null;
  counted: number;
  /** Octets of the files that count, where a file space is known that shares the quota. */
  files?: number | undefined;
  at: string;
}

/** Why what the server's figure moved by is not what was purged, each with its octets. */
export interface BalanceReason {
  reason: 'lag' | 'once' | 'removed-by-others' | 'new-mail';
  bytes: number;
}

/** What a purge was expected to win, and what the server's figure says. All in octets. */
export interface Balance {
  expected: number;
  /** Right after; null where the server has no figure. */
  reported: number | null;
  /** When the figure had followed; null while it has not. */
  settledAt: string | null;
  /** Of the server's figure before: what is not mail, and stays. Negative where it counts less than all copies. */
  notMail: number | null;
  reasons: BalanceReason[];
}

/** The server counts in units of 1024 octets (RFC 9208 §5.1), each end rounded: figures that differ by less agree. */
const UNIT = 1024;

/**
 * Whether the server's figure says what is to be expected after a purge: what we count, and as much besides as before it.
 * New mail and other programs change both alike, so they don't hide it.
 */
export function hasFollowed(before: QuotaSnapshot | null, now: QuotaSnapshot): boolean {
  if (before?.used == null || now.used === null) return false;
  return Math.abs(now.used - before.used + countedLess(before, now)) <= UNIT;
}

/** By how much less we count: messages, and files where they were known both times. */
function countedLess(before: QuotaSnapshot, after: QuotaSnapshot): number {
  const files = before.files === undefined || after.files === undefined ? 0 : before.files - after.files;
  return before.counted - after.counted + files;
}

/**
 * Compares what a purge did with what the figures say.
 *
 * @param won octets of the messages that were purged.
 */
export function balance(run: {
  won: number;
  before: QuotaSnapshot;
  after: QuotaSnapshot;
  settled: QuotaSnapshot | null;
}): Balance {
  const { won, before, after, settled } = run;
  const counted = countedLess(before, after);
  const reasons: BalanceReason[] = [];
  // Our own count moves by what was purged, and by what else was seen to come and go meanwhile.
  if (counted > won) reasons.push({ reason: 'removed-by-others', bytes: counted - won });
  if (counted < won) reasons.push({ reason: 'new-mail', bytes: won - counted });
  const reported = before.used === null || after.used === null ? null : before.used - after.used;
  const short = reported === null ? 0 : counted - reported;
  if (Math.abs(short) > UNIT) {
    // Where the server counts less than all copies together, a copy that goes wins nothing while another stays.
    const once = before.used !== null && before.used < before.counted + (before.files ?? 0) && short > 0;
    reasons.push({ reason: once && settled === null ? 'once' : 'lag', bytes: short });
  }
  return {
    expected: won,
    reported,
    settledAt: settled?.at ?? null,
    notMail: before.used === null ? null : before.used - before.counted - (before.files ?? 0),
    reasons,
  };
}
