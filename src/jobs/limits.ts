/** Jobs of one host that are done at a time, by all workers: a host that hangs, or is slow, leaves room for others. */
export const PER_HOST = 8;

/** Messages of one mailbox that an index may hold, where the operator sets nothing else. */
export const MAX_MESSAGES = 5_000_000;
