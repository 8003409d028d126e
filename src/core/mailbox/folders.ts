/** What a folder is for, from SPECIAL-USE (RFC 6154) or, for the inbox, its name. */
export type FolderRole = 'inbox' | 'sent' | 'drafts' | 'junk' | 'trash' | 'archive';

const ROLE_OF_USE: Record<string, FolderRole> = {
  '\\inbox': 'inbox',
  '\\sent': 'sent',
  '\\drafts': 'drafts',
  '\\junk': 'junk',
  '\\trash': 'trash',
  '\\archive': 'archive',
};

/** The role that a special-use attribute gives; null where it gives none. */
export function roleOfUse(use: string | undefined): FolderRole | null {
  return ROLE_OF_USE[use?.toLowerCase() ?? ''] ?? null;
}

/** Whether a folder with these attributes repeats mail that lives elsewhere (RFC 6154 §2: \All and \Flagged are views). */
export function repeatsMail(attributes: Iterable<string>): boolean {
  for (const attribute of attributes) if (/^\\(all|flagged)$/i.test(attribute)) return true;
  return false;
}

/**
 * A folder's path as people read it: levels parted by `/`, without the prefix of the personal namespace.
 *
 * @param listed the decoded name as the server lists it. A NUL in it, which modified UTF-7 can hold, is no character that is kept.
 * @returns the name as it is where the readable form would be ambiguous: a level that holds `/` itself, or one that
 *          would read INBOX.
 */
export function readablePath(listed: string, delimiter: string | null, prefix: string): string {
  const name = listed.replaceAll('\0', '\ufffd');
  if (name.toUpperCase() === 'INBOX') return 'INBOX';
  const inside = prefix !== '' && name.startsWith(prefix) ? name.slice(prefix.length) : name;
  if (inside === '' || inside.toUpperCase() === 'INBOX') return name;
  if (delimiter === null || delimiter === '/') return inside;
  return inside.includes('/') ? name : inside.replaceAll(delimiter, '/');
}

/** The folders that are the trash: the one that the user named, else the one with that role, and all below it. */
export function trashFolders<T extends { path: string; role: string | null; repeats: boolean }>(
  folders: readonly T[],
  named: string | null,
): T[] {
  const trash = trashFolder(folders, named);
  return trash ? withSubfolders(folders, trash.path) : [];
}

/** A folder and all below it; views that repeat mail left out. */
export function withSubfolders<T extends { path: string; repeats: boolean }>(folders: readonly T[], of: string): T[] {
  return folders.filter(({ path, repeats }) => !repeats && (path === of || path.startsWith(`${of}/`)));
}

export function trashFolder<T extends { path: string; role: string | null }>(
  folders: readonly T[],
  named: string | null,
): T | undefined {
  return folders.find(({ path }) => path === named) ?? folders.find(({ role }) => role === 'trash');
}

/** Names under which programs that keep folders in step file what they could not merge. Common practice, no source. */
const CONFLICTS = /(^|\/)conflicts?(\/|$)/i;

/** The folders that cost no decision besides the trash: junk, and copies left over from conflicts. */
export function freeFolders<T extends { path: string; role: string | null; repeats: boolean }>(
  folders: readonly T[],
): T[] {
  return folders.filter(({ path, role, repeats }) => !repeats && (role === 'junk' || CONFLICTS.test(path)));
}

/** Own figures of a folder. */
export interface FolderFigures {
  path: string;
  messages: number;
  bytes: number;
}

/** A folder in the tree, with the sums over itself and all below it. */
export interface FolderNode<T extends FolderFigures> {
  /** Undefined where the server has levels below a name that is no folder itself. */
  folder: T | undefined;
  path: string;
  /** The last level of the path. */
  name: string;
  depth: number;
  messages: number;
  bytes: number;
  children: FolderNode<T>[];
}

/** Arranges folders as a tree by the levels of their paths and adds each up into its parents. */
export function folderTree<T extends FolderFigures>(folders: readonly T[]): FolderNode<T>[] {
  const nodes = new Map<string, FolderNode<T>>();
  const roots: FolderNode<T>[] = [];
  const node = (path: string): FolderNode<T> => {
    const known = nodes.get(path);
    if (known) return known;
    const cut = path.lastIndexOf('/');
    const parent = cut > 0 ? node(path.slice(0, cut)) : undefined;
    const made: FolderNode<T> = {
      folder: undefined,
      path,
      name: parent ? path.slice(cut + 1) : path,
      depth: parent ? parent.depth + 1 : 0,
      messages: 0,
      bytes: 0,
      children: [],
    };
    (parent ? parent.children : roots).push(made);
    nodes.set(path, made);
    return made;
  };
  for (const folder of folders) {
    node(folder.path).folder = folder;
    for (let path = folder.path; path !== ''; path = path.includes('/') ? path.slice(0, path.lastIndexOf('/')) : '') {
      const ancestor = node(path);
      ancestor.messages += folder.messages;
      ancestor.bytes += folder.bytes;
    }
  }
  return roots;
}
