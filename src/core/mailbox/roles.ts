import type { FolderRole } from './folders';

/** Roles that a folder may have been given by a person; the inbox is one by its name (RFC 9051 §5.1). */
export const CHOSEN_ROLES = ['trash', 'sent', 'drafts', 'junk', 'archive'] as const;
export type ChosenRole = (typeof CHOSEN_ROLES)[number];

/** What a person said: the path of the folder with each role, null where none has it. */
export type ChosenRoles = { readonly [role in ChosenRole]?: string | null | undefined };

export type RoleBy = 'server' | 'name' | 'user';

/**
 * The role of a folder, and who says so. What the server marks is so; else, once a person has said what folders are for, it
 * is that; until then it is what the name of the folder tells.
 *
 * @param marked roles that the server gives to any folder.
 */
export function roleOf(
  folder: { path: string; role: FolderRole | null; proposed: FolderRole | null },
  chosen: ChosenRoles | null,
  marked: ReadonlySet<FolderRole>,
): { role: FolderRole; by: RoleBy } | null {
  if (folder.role) return { role: folder.role, by: 'server' };
  if (chosen) {
    const role = CHOSEN_ROLES.find((each) => chosen[each] === folder.path && !marked.has(each));
    return role ? { role, by: 'user' } : null;
  }
  return folder.proposed && !marked.has(folder.proposed) ? { role: folder.proposed, by: 'name' } : null;
}
