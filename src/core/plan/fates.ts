/**
 * What happens to the messages of a lot: they go to the trash, after they were saved in the archive or not; they are purged; or
 * files in them are taken out or made smaller.
 */
export const FATES = ['trash', 'archive', 'purge', 'strip', 'shrink'] as const;
export type Fate = (typeof FATES)[number];

/** The fates of files: what a message says stays, and another message stands in its place. */
export const FATES_OF_FILES = ['strip', 'shrink'] as const satisfies readonly Fate[];

export function isOfFiles(fate: string): boolean {
  return (FATES_OF_FILES as readonly string[]).includes(fate);
}
