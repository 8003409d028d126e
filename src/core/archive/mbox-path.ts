import { safeLevels } from './safe-levels';
import { numbered, safeName } from './safe-name';

/**
 * Where the messages of a mail folder are in a bag: `Committee/Minutes.mbox`, and `Committee/Minutes (2).mbox`. What names of
 * folders hold that is no name of a file is replaced, so several folders may have one.
 *
 * @param folder its path, levels parted by `/`.
 */
export function mboxPath(folder: string, number: number): string {
  const names = safeLevels(folder);
  const name = safeName(`${names.pop() ?? 'folder'}.mbox`, 'folder.mbox');
  return [...names, number === 1 ? name : numbered(name, number)].join('/');
}
