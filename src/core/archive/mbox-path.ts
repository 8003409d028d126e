import { numbered, safeName } from './safe-name';

/** Levels of folders that a path keeps; deeper ones are one name with the last. */
const MAX_LEVELS = 12;

/**
 * Where the messages of a mail folder are in a bag: `Committee/Minutes.mbox`, and `Committee/Minutes (2).mbox`. What names of
 * folders hold that is no name of a file is replaced, so several folders may have one.
 *
 * @param folder its path, levels parted by `/`.
 */
export function mboxPath(folder: string, number: number): string {
  const levels = folder.split('/');
  const kept = levels.slice(0, MAX_LEVELS - 1);
  const rest = levels.slice(MAX_LEVELS - 1).join('_');
  const names = (rest === '' ? kept : [...kept, rest]).map((name) => safeName(name, 'folder'));
  const name = safeName(`${names.pop() ?? 'folder'}.mbox`, 'folder.mbox');
  return [...names, number === 1 ? name : numbered(name, number)].join('/');
}
