import type { FolderStatus, ListedFolder } from '../../mail/server';
import type { Queryable } from '../../store/database';
import { foldersOf, type Generation, generationsOf, type StoredFolder } from '../../store/index/folders';

/** A folder of the server beside ours. */
export interface ChangedFolder {
  status: FolderStatus;
  folder: StoredFolder;
  generation: Generation | undefined;
}

/** The folders in which something may have changed, those with the most octets first. */
export async function changedFolders(
  db: Queryable,
  account: number,
  listed: readonly ListedFolder[],
  first: boolean,
): Promise<ChangedFolder[]> {
  const byName = new Map((await foldersOf(db, account)).map((folder) => [folder.serverName, folder]));
  const generations = await generationsOf(db, account);
  const changed: ChangedFolder[] = [];
  for (const { serverName, status, repeats } of listed) {
    const folder = byName.get(serverName);
    if (!folder || !status || repeats) continue;
    const pair = { status, folder, generation: generations.get(folder.id) };
    if (!standsStill(pair, first)) changed.push(pair);
  }
  const weight = ({ status }: ChangedFolder) => status.bytes ?? status.messages;
  return changed.sort((a, b) => weight(b) - weight(a));
}

/**
 * Whether STATUS says what it said when the folder was last equal to ours. Without mod-sequences flags may have
 * changed all the same, so the first round looks into every folder then.
 */
function standsStill({ status, generation }: ChangedFolder, first: boolean): boolean {
  if (!generation || generation.uidValidity !== status.uidValidity) return false;
  if (generation.seenMessages !== status.messages || generation.seenUidNext !== status.uidNext) return false;
  return status.modSeq === null ? !first || status.messages === 0 : generation.seenModSeq === status.modSeq;
}
