import { collectionOf } from '../../../core/space/path';
import { pathInTrash } from '../../../core/space/trash';
import { look } from '../../../dav/transfer';
import { beginFiles, closeFiles, type RunFile, reopenFiles } from '../../../store/runs/file-runs';
import type { MovedFile } from '../../../store/space/listing';
import { eachAtATime, FileWork, type Ready, type Scene } from './file-work';
import { isAsItWas, isRefusal, reasonOf, type Sent, send, whatBecameOf } from './sender';
import { SmallerInPlace } from './smaller-in-place';
import { StayingPictures } from './staying-pictures';

/** Moves files to the trash, back from there, or deletes them. */
export class MovingFiles extends FileWork {
  private readonly pictures: StayingPictures;
  private readonly smaller: SmallerInPlace;
  /** What was sent before the run was interrupted, and was not done by then. */
  private readonly open = new Set<number>();

  constructor(scene: Scene) {
    super(scene);
    const { context, client, account, run } = scene;
    this.pictures = new StayingPictures(context.database, client, account, run.id);
    this.smaller = new SmallerInPlace(scene, this.folders);
  }

  protected recovered(ready: readonly Ready[]): Promise<void> {
    return this.closed(ready, ({ sent }) => whatBecameOf(this.scene.client, sent));
  }

  protected async pack(files: readonly RunFile[]): Promise<void> {
    const { account, client, fenced, run, told } = this.scene;
    await told.says('checking', files.length);
    const ready = (await eachAtATime(files, (file) => this.looked(file))).filter((one) => one !== undefined);
    if (ready.length === 0) return;
    await told.says('carrying-out', ready.length);
    const sent = ready.map((one) => one.sent);
    await fenced((db) => beginFiles(db, account, run.id, sent));
    await this.closed(ready, (one) => send(client, one.sent, this.open.has(one.sent.id)));
  }

  /** Looks at a file as it is now, and makes room for it where it goes. Undefined where it is left. */
  private async looked(file: RunFile): Promise<Ready | undefined> {
    const { client, run, mail } = this.scene;
    if (file.state !== 'there') return this.left(file, file.state === 'gone' ? 'vanished' : 'changed');
    try {
      const now = await look(client, file.path);
      if (!now) return await this.left(file, 'vanished');
      if (!isAsItWas(now, file)) return await this.left(file, 'changed');
      const isLast = async () => !((await this.pictures.letsGo(file.id)) && (await mail.letsGo(file.id)));
      if (run.action === 'trash' && (await isLast())) return await this.left(file, 'last-copy');
      const to = await this.destinationOf(file);
      if (to !== null && run.action === 'restore' && !(await this.smaller.givesWay(to)))
        return await this.left(file, 'there');
      if (to !== null) await this.folders.idOf(collectionOf(to) as string);
      // The tag of this moment: a weak one may have become strong.
      const { id, path: from, bytes, modified } = file;
      return { file, sent: { id, from, to, bytes, etag: now.etag ?? null, modified } };
    } catch (error) {
      if (!isRefusal(error)) throw error;
      return this.left(file, reasonOf(error), error);
    }
  }

  /** Where a file goes: into the folder of this run in the trash, or back; null of a purge. */
  private async destinationOf(file: RunFile): Promise<string | null> {
    const { run, space } = this.scene;
    if (run.action === 'purge') return null;
    if (run.action === 'restore') return file.origin as string;
    return pathInTrash(file.path, space.root, await this.ofRun());
  }

  /** Writes down what became of files. What is not known of some is thrown, once it is written down of the others. */
  private async closed(ready: readonly Ready[], find: (one: Ready) => Promise<Sent>): Promise<void> {
    const { account, fenced, run, space, told } = this.scene;
    const failures: unknown[] = [];
    const found = await eachAtATime(ready, async (one) => {
      try {
        return { one, sent: await find(one) };
      } catch (error) {
        failures.push(error);
        return undefined;
      }
    });
    const known = found.filter((each) => each !== undefined);
    const isRestore = run.action === 'restore';
    const moved: MovedFile[] = [];
    for (const { one, sent } of known) {
      if (typeof sent !== 'object' || !('done' in sent) || sent.done === 'gone') continue;
      const { etag = null, modified = null } = sent.done;
      const path = one.sent.to as string;
      const trash = isRestore ? { trashedBy: null, origin: null } : { trashedBy: run.id, origin: one.sent.from };
      const folder = await this.folders.idOf(collectionOf(path) as string);
      moved.push({ id: one.file.id, path, folder, etag, modified, ...trash });
    }
    const gone = known.flatMap(({ one, sent }) =>
      typeof sent === 'object' && 'done' in sent && sent.done === 'gone' ? [one.file.id] : [],
    );
    const pending = known.flatMap(({ one, sent }) => (sent === 'pending' ? [one.file.id] : []));
    await fenced(async (db) => {
      await closeFiles(db, account, run.id, space.id, moved, gone);
      for (const id of pending) this.open.add(id);
      if (pending.length > 0) await reopenFiles(db, account, run.id, pending);
      await told.progressed(db);
    });
    for (const { one, sent } of known) {
      if (typeof sent !== 'object' || !('left' in sent)) continue;
      // A folder that went meanwhile is made again for the next.
      if (sent.left === 'folder-gone') this.folders.forget();
      await told.leave(sent.left, [one.file.id], sent.because);
    }
    if (failures.length > 0) throw failures[0];
  }
}
