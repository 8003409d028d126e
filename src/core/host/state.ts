import type { Fills, Stated } from './figures';
import { fullestShare, shareOf } from './figures';
import type { FullOn } from './growth';

/** What can be said of a mailbox at a glance, the most urgent first. */
export const HOST_STATES = [
  /** Its limit is reached: nothing comes in. */
  'full',
  'full-by-number',
  /** Nobody could sign in to it, so it is not known how full it is. */
  'not-signed-in',
  'not-measured',
  'almost-full',
  'left',
  'unused',
  'above-target',
  'fine',
] as const;
export type HostState = (typeof HOST_STATES)[number];

/** Share from which on a mailbox is almost full, and days before it is full (common practice, no source). */
const ALMOST = 0.95;
const SOON_DAYS = 14;
/** RFC 9208 §5.1: STORAGE is counted in units of 1024 octets, so a limit is reached before the last octet is. */
const UNIT = 1024;

const DAY_MS = 86_400_000;

/** Everything that holds of a mailbox; at least one. */
export function statesOf({
  now,
  fills,
  stated,
  full,
  unused,
  refused,
}: {
  now: Date;
  /** Null where it was never measured. */
  fills: Fills | null;
  stated: Stated;
  full: FullOn | null;
  /** Whether nobody read anything for long. */
  unused: boolean;
  /** Whether the last try to sign in failed. */
  refused: boolean;
}): HostState[] {
  const states = new Set<HostState>();
  if (refused) states.add('not-signed-in');
  else if (!fills) states.add('not-measured');
  if (fills) {
    const { bytes, messages } = fills;
    if (bytes && bytes.limit !== null && bytes.limit - bytes.used < UNIT) states.add('full');
    if (messages.limit !== null && messages.used >= messages.limit) states.add('full-by-number');
    const share = fullestShare(fills) ?? 0;
    const isSoon = full !== null && full.at.getTime() - now.getTime() <= SOON_DAYS * DAY_MS;
    const isFull = states.has('full') || states.has('full-by-number');
    if (!isFull && (share >= ALMOST || isSoon)) states.add('almost-full');
    const above = [shareOf(bytes), shareOf(messages)].some((part) => part !== null && part > stated.target);
    // Who is full is told so, and not that it is above its target too.
    if (above && !isFull && !states.has('almost-full')) states.add('above-target');
  }
  if (stated.leftOn !== null) states.add('left');
  // Nobody reads what catches the mail of no mailbox, and nobody need.
  if (unused && !stated.catchesAll) states.add('unused');
  if (states.size === 0) states.add('fine');
  return HOST_STATES.filter((state) => states.has(state));
}
