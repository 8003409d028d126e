/** Whether a copy of a file is outside the mailbox, and whether it was checked. The order is that of their numbers. */
export const COPIES = ['none', 'saved', 'checked'] as const;
export type Copy = (typeof COPIES)[number];
