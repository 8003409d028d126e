import type { Amount } from '../level/level';

/** What is measured of a mailbox without reading its mail: quota (RFC 9208) and STATUS. Octets; null where the server does not tell. */
export interface Measurement {
  at: Date;
  used: number | null;
  limit: number | null;
  messages: number | null;
  messageLimit: number | null;
  /** Sums over the folders; octets null where the server gives no sizes of folders (RFC 8438). */
  counted: { messages: number; bytes: number | null };
  inbox: { messages: number; unseen: number | null };
  trash: { messages: number; bytes: number | null };
  junk: { messages: number; bytes: number | null };
}

/** What a person states of a mailbox. */
export interface Stated {
  /** Limits, for a server that tells none. */
  bytes: number | null;
  messages: number | null;
  /** Share of the limits to which it is to come down. */
  target: number;
  /** The day on which its owner left. */
  leftOn: string | null;
  /** Whether it catches what has no mailbox. */
  catchesAll: boolean;
}

/** How much of one thing there is, of what it may be. */
export interface Fill {
  used: number;
  /** Null where nobody tells one. */
  limit: number | null;
  usedBy: 'server' | 'counted';
  limitBy: 'server' | 'stated' | null;
}

export interface Fills {
  /** Null where neither quota nor sizes of folders are told. */
  bytes: Fill | null;
  messages: Fill;
  /** Octets in use that are no mail; null where it can't be told. */
  notMail: number | null;
}

/** How full a mailbox is by what was measured; what the server says goes before what a person states. */
export function fillsOf({ used, limit, messages, messageLimit, counted }: Measurement, stated: Stated): Fills {
  const inUse = used ?? counted.bytes;
  return {
    bytes: inUse === null ? null : fill(inUse, used !== null, limit, stated.bytes),
    messages: fill(messages ?? counted.messages, messages !== null, messageLimit, stated.messages),
    notMail: used === null || counted.bytes === null ? null : beyond(used, counted.bytes),
  };
}

/** What is used beyond what was counted; less than the server's unit of 1024 octets is its rounding (RFC 9208 §5.1). */
function beyond(used: number, counted: number): number {
  return used - counted < 1024 ? 0 : used - counted;
}

function fill(used: number, isTold: boolean, limit: number | null, stated: number | null): Fill {
  return {
    used,
    limit: limit ?? stated,
    usedBy: isTold ? 'server' : 'counted',
    limitBy: limit !== null ? 'server' : stated !== null ? 'stated' : null,
  };
}

/** The part of its limit that is in use; null without a limit. */
export function shareOf(fill: Fill | null): number | null {
  if (!fill || fill.limit === null) return null;
  return fill.limit === 0 ? 1 : fill.used / fill.limit;
}

/** Of the fuller of its two limits: the order of the fullest. */
export function fullestShare({ bytes, messages }: Fills): number | null {
  const shares = [shareOf(bytes), shareOf(messages)].filter((share) => share !== null);
  return shares.length === 0 ? null : Math.max(...shares);
}

/** What must go from a mailbox to come down to its target, by each of its limits. */
export function excessOf({ bytes, messages }: Fills, target: number): Amount {
  const over = (fill: Fill | null) =>
    fill && fill.limit !== null ? Math.max(0, fill.used - Math.floor(fill.limit * target)) : 0;
  return { bytes: over(bytes), messages: over(messages) };
}
