/** What is read to find out what exists more than once. A job of reading carries the place of its kind in this list; never change it. */
export const READINGS = ['messages', 'files', 'pictures', 'threads', 'spaces'] as const;
export type Reading = (typeof READINGS)[number];
