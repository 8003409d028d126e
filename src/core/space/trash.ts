import { collectionOf, memberPath } from './path';

/** What folders for what was let go are called, in several languages: common practice, from memory. The first is the one that is made. */
const NAMES = [
  ...['Trash', '.Trash', 'trash', '.trash', 'Deleted', 'Recycle Bin', 'Papierkorb', 'Corbeille', 'Papelera'],
  ...['Cestino', 'Prullenbak', 'Lixeira', 'Kosz'],
];

/** Paths of the folders right below a root that may be the trash, the likeliest first. */
export function trashPaths(root: string): string[] {
  return NAMES.map((name) => memberPath(root, name, true));
}

/**
 * The folder of a run in the trash: its own, so that nothing else lies there.
 *
 * @param day as 2026-11-29.
 * @param tries how many such folders were there already.
 */
export function folderOfRun(trash: string, day: string, run: number, tries: number): string {
  return memberPath(trash, `${day} run ${run}${tries === 0 ? '' : ` (${tries + 1})`}`, true);
}

/** Where a file goes that is brought into a folder: as deep in it as it lies below the root. */
export function pathInTrash(path: string, root: string, folder: string): string {
  return folder + path.slice(root.length);
}

/** The folders from the one right below another down to one. */
export function foldersDownTo(above: string, folder: string): string[] {
  const folders: string[] = [];
  for (let at: string | undefined = folder; at !== undefined && at.length > above.length; at = collectionOf(at))
    folders.unshift(at);
  return folders;
}
