import { collectionOf } from '../../../core/space/path';
import { folderOfRun, foldersDownTo, trashPaths } from '../../../core/space/trash';
import { makeFolder } from '../../../dav/change';
import type { DavClient } from '../../../dav/client';
import { SpaceProblem } from '../../../dav/problem';
import { look } from '../../../dav/transfer';
import type { Queryable } from '../../../store/database';
import { saveTrashFolder, trashFolderOf } from '../../../store/runs/file-runs';
import type { Run } from '../../../store/runs/runs';
import { noteFolder } from '../../../store/space/listing';
import { type FileSpace, updateSpace } from '../../../store/space/spaces';
import { trashOf } from '../../../store/space/trash';
import type { Fence } from '../../fence';

/** Folders of a run in the trash that may be there before it: of an instance that counted its runs anew. */
const MOST_TRIES = 100;

/** Folders of a file space into which a run puts files: found, or made where they are not there. */
export class FileFolders {
  /** Ids of folders that are there, by their paths. */
  private readonly known = new Map<string, Promise<number>>();

  constructor(
    private readonly client: DavClient,
    private readonly account: number,
    private readonly space: FileSpace,
    private readonly fenced: Fence,
  ) {}

  /**
   * The id of the folder in which something is to lie, which is made where it is not there, with those above it.
   *
   * @throws SpaceProblem where it can't be made.
   */
  async idOf(path: string): Promise<number> {
    let above: Promise<number> | undefined;
    for (const folder of foldersDownTo(this.space.root, path)) {
      const before = above;
      above = this.known.get(folder);
      if (above) continue;
      above = Promise.resolve(before).then(() => this.made(folder));
      this.known.set(folder, above);
      // What failed may be tried again with the next file.
      above.catch(() => this.known.delete(folder));
    }
    return above ?? this.note(path, false);
  }

  /** Forgets folders that turned out to be gone. */
  forget(): void {
    this.known.clear();
  }

  private async made(path: string): Promise<number> {
    let isMade = false;
    try {
      isMade = await makeFolder(this.client, path);
    } catch (error) {
      const isRefusal = error instanceof SpaceProblem && error.kind !== 'no-room' && error.kind !== 'password-refused';
      // Not every server answers as RFC 4918 §9.3.1 says where a folder is there.
      if (!isRefusal || !(await this.isFolder(path))) throw error;
    }
    if (!isMade && !(await this.isFolder(path)))
      throw new SpaceProblem('folder-gone', 'A file lies where a folder is needed.');
    return this.note(path, isMade);
  }

  private note(path: string, isMade: boolean): Promise<number> {
    return this.fenced((db) => noteFolder(db, this.account, this.space.id, path, isMade));
  }

  private async isFolder(path: string): Promise<boolean> {
    return (await look(this.client, path))?.isCollection === true;
  }

  /**
   * The folder of a run in the trash, where nothing else lies. Its name is written down before it is made, so that a run that goes on
   * knows it for its own.
   */
  async ofRun(db: Queryable, run: Run): Promise<string> {
    const kept = await trashFolderOf(db, this.account, run.id);
    if (kept !== null) return kept;
    const trash = (await trashOf(db, this.account, this.space)) ?? (trashPaths(this.space.root)[0] as string);
    await this.idOf(trash);
    const day = run.createdAt.toISOString().slice(0, 10);
    for (let tries = 0; tries < MOST_TRIES; tries++) {
      const folder = folderOfRun(trash, day, run.id, tries);
      if (await look(this.client, folder)) continue;
      await this.fenced(async (client) => {
        await saveTrashFolder(client, this.account, run.id, folder);
        await updateSpace(client, this.account, this.space.id, { trash });
      });
      return folder;
    }
    throw new SpaceProblem('folder-gone', `The folder ${collectionOf(trash)} has no place for a folder of this run.`);
  }
}
