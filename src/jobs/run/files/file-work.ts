import { chunksOf, numbersOf } from '../../../core/sets/ranges';
import type { DavClient } from '../../../dav/client';
import type { SpaceProblem } from '../../../dav/problem';
import type { Queryable } from '../../../store/database';
import { pendingFiles, type RunFile, runFiles, type SentFile, sentFiles } from '../../../store/runs/file-runs';
import { type LeftReason, type Run, type RunPhase, wantedOf } from '../../../store/runs/runs';
import type { FileSpace } from '../../../store/space/spaces';
import type { WorkContext } from '../../context';
import type { Fence } from '../../fence';
import { FileFolders } from './folders';
import type { StayingMail } from './staying-mail';

/** Files that are looked at, written down and sent together. */
const PACK = 64;
/** Requests at a time. */
const AT_A_TIME = 4;

/** Whoever keeps the account of a run. */
export interface Told {
  leave(reason: LeftReason, ids: readonly number[], because?: SpaceProblem): Promise<void>;
  progressed(db: Queryable): Promise<void>;
  says(phase: RunPhase, files?: number): Promise<void>;
}

/** A run, and where it works. */
export interface Scene {
  context: WorkContext;
  account: number;
  space: FileSpace;
  client: DavClient;
  run: Run;
  fenced: Fence;
  mail: StayingMail;
  told: Told;
}

/** A file that can be sent, or was. */
export interface Ready {
  file: RunFile;
  sent: SentFile;
}

/** What a run does at the server of a file space, some files at a time. */
export abstract class FileWork {
  protected readonly folders: FileFolders;
  /** The folder of this run in the trash. */
  private trash: Promise<string> | undefined;

  constructor(protected readonly scene: Scene) {
    this.folders = new FileFolders(scene.client, scene.account, scene.space, scene.fenced);
  }

  /** Finds out what became of what was sent before the run was interrupted. */
  async recover(): Promise<void> {
    const { context, account, run, told } = this.scene;
    const open = await sentFiles(context.database, account, run.id);
    if (open.length === 0) return;
    await told.says('recovering', open.length);
    for (let at = 0; at < open.length; at += PACK) {
      const pack = open.slice(at, at + PACK);
      const ids = pack.map(({ id }) => id);
      const files = new Map((await runFiles(context.database, account, ids)).map((file) => [file.id, file]));
      await this.recovered(pack.map((sent) => ({ file: files.get(sent.id) as RunFile, sent })));
    }
  }

  async work(): Promise<'done' | 'paused' | 'cancelled'> {
    const { context, account, run, told } = this.scene;
    const pending = await pendingFiles(context.database, account, run.id);
    for (const chunk of chunksOf(pending, PACK)) {
      const wanted = await wantedOf(context.database, account, run.id);
      if (wanted === 'pause') return 'paused';
      if (wanted === 'cancel') {
        await told.leave('cancelled', [...numbersOf(await pendingFiles(context.database, account, run.id))]);
        return 'cancelled';
      }
      await this.pack(await runFiles(context.database, account, [...numbersOf(chunk)]));
    }
    return 'done';
  }

  /** Closes what was sent before. */
  protected abstract recovered(ready: readonly Ready[]): Promise<void>;

  protected abstract pack(files: readonly RunFile[]): Promise<void>;

  protected async left(file: Pick<RunFile, 'id'>, reason: LeftReason, because?: SpaceProblem): Promise<undefined> {
    await this.scene.told.leave(reason, [file.id], because);
  }

  /** The folder of this run in the trash: its own. */
  protected ofRun(): Promise<string> {
    this.trash ??= this.folders.ofRun(this.scene.context.database, this.scene.run);
    return this.trash;
  }
}

/** Does something with each, some at a time; all that was begun has ended when it returns or throws. */
export async function eachAtATime<T, R>(items: readonly T[], act: (item: T) => Promise<R>): Promise<R[]> {
  const results: R[] = [];
  const failures: unknown[] = [];
  let next = 0;
  const one = async () => {
    while (next < items.length && failures.length === 0) {
      const at = next++;
      await act(items[at] as T).then(
        (result) => {
          results[at] = result;
        },
        (error: unknown) => failures.push(error),
      );
    }
  };
  await Promise.all(Array.from({ length: AT_A_TIME }, one));
  if (failures.length > 0) throw failures[0];
  return results;
}
