import { collectionOf } from '../../../core/space/path';
import { pathInTrash } from '../../../core/space/trash';
import { moveFile } from '../../../dav/change';
import { SpaceProblem } from '../../../dav/problem';
import { look } from '../../../dav/transfer';
import { smallerAt } from '../../../store/runs/file-runs';
import { noteMoved } from '../../../store/space/listing';
import type { Scene } from './file-work';
import type { FileFolders } from './folders';
import { isAsItWas } from './sender';

/** Smaller pictures that a run put in the place of originals: they give way to these when they come back. */
export class SmallerInPlace {
  constructor(
    private readonly scene: Pick<Scene, 'context' | 'account' | 'client' | 'fenced' | 'run' | 'space'>,
    private readonly folders: FileFolders,
  ) {}

  /**
   * Whether nothing lies at a place any more. A smaller picture that is as a run put it goes to the trash; all else stays.
   *
   * @throws SpaceProblem where it can't be brought away.
   */
  async givesWay(path: string): Promise<boolean> {
    const { context, account, client, fenced, run, space } = this.scene;
    const now = await look(client, path);
    if (!now) return true;
    const smaller = await smallerAt(context.database, account, space.id, path);
    if (!smaller || !isAsItWas(now, smaller)) return false;
    const to = pathInTrash(path, space.root, await this.folders.ofRun(context.database, run));
    const folder = await this.folders.idOf(collectionOf(to) as string);
    await moveFile(client, path, to, now.etag);
    const arrived = await look(client, to);
    if (arrived?.bytes !== smaller.bytes) throw new SpaceProblem('command-refused', 'The server did not move it.');
    const { etag = null, modified = null } = arrived;
    // It belongs to no run: the original is what can be taken back.
    const moved = { id: smaller.id, path: to, folder, etag, modified, trashedBy: null, origin: null };
    await fenced((db) => noteMoved(db, account, space.id, [moved]));
    return (await look(client, path)) === undefined;
  }
}
