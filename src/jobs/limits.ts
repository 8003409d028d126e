/** Jobs of one host that are done at a time, by all workers: a host that hangs, or is slow, leaves room for others. */
export const PER_HOST = 8;
