import type { Database } from '../../store/database';
import {
  closeFolders,
  countFilesAnew,
  forgetDigests,
  noteMembers,
  type Part,
  removePaths,
} from '../../store/space/listing';
import { type FileSpace, updateSpace } from '../../store/space/spaces';
import type { Turn } from '../context';
import type { Fence } from '../fence';

/** Members from which on what was read is written down. */
const BATCH = 2_000;
/** Members that wait to be written down before who reads has to wait. */
const MOST_WAITING = 4 * BATCH;
/** How long what was read waits for more, in milliseconds: so much is read again by whoever takes over. */
const LONGEST_MS = 500;
/** Members after which the planner looks at the tables for the first time, and by how many times more each time after. */
const FIRST_LOOK = 1_000;
const NEXT_LOOK = 8;

/** What was read of a folder, and whether that was its end. */
export interface ReadPart extends Part {
  end:
    | null
    | 'gone'
    /** All of it came. Where its files are as they were, they are not among the members. */
    | { digest: Buffer; isUnchanged: boolean };
}

/** Writes down what is read of folders, many together in one transaction, one transaction at a time. */
export class FolderWriter {
  private waiting: ReadPart[] = [];
  private members = 0;
  private writing: Promise<void> | undefined;
  private failure: { error: unknown } | undefined;
  /** Of folders of which a part was written: the ids of its files. */
  private readonly seen = new Map<number, number[]>();
  private written = 0;
  private wroteAt = Date.now();
  private nextLook = FIRST_LOOK;
  /** Folders that were read, and are in the table as if they had not been. */
  readonly unwritten = new Set<number>();

  constructor(
    private readonly database: Database,
    private readonly fenced: Fence,
    private readonly account: number,
    private readonly space: FileSpace,
    private readonly turn: Turn,
    private readonly listing: () => number,
  ) {}

  get isIdle(): boolean {
    return this.waiting.length === 0 && this.writing === undefined && !this.failure;
  }

  /** Takes a part; it is written down soon, or waited for where much waits. */
  async take(part: ReadPart): Promise<void> {
    this.waiting.push(part);
    this.members += 1 + part.members.length;
    this.unwritten.add(part.folder.id);
    if (this.members < BATCH && Date.now() - this.wroteAt < LONGEST_MS) return;
    const flushed = this.flush();
    if (this.members >= MOST_WAITING) await flushed;
    else flushed.catch(() => undefined);
  }

  /** Writes down what waits. What failed once fails whoever asks from then on, since what it was to write is lost. */
  async flush(): Promise<void> {
    while (!this.isIdle) {
      if (this.failure) throw this.failure.error;
      this.writing ??= this.write()
        .catch((error: unknown) => {
          this.failure = { error };
        })
        .finally(() => {
          this.writing = undefined;
        });
      await this.writing;
    }
  }

  private async write(): Promise<void> {
    const { account, space } = this;
    const parts = this.waiting;
    this.waiting = [];
    this.wroteAt = Date.now();
    this.written += this.members;
    this.members = 0;
    const whole = (unchanged: boolean) =>
      parts.flatMap(({ folder: { id }, end }) =>
        end !== null && end !== 'gone' && end.isUnchanged === unchanged ? [{ id, digest: end.digest }] : [],
      );
    const changed = whole(false);
    const begun = parts.filter(({ end }) => end === null).map(({ folder }) => folder.id);
    const gone = parts.filter(({ end }) => end === 'gone').map(({ folder }) => folder.path);
    await this.fenced(async (db) => {
      const ids = await noteMembers(db, account, space.id, this.listing(), parts);
      for (const [at, { folder }] of parts.entries()) this.note(folder.id, ids[at] as number[]);
      if (begun.length > 0) await forgetDigests(db, account, begun);
      await closeFolders(db, account, this.listing(), changed, whole(true), this.seenIn(changed));
      if (gone.length > 0) await removePaths(db, account, space.id, gone);
      await this.turn.progressed(db);
      if (space.attempts > 0) await updateSpace(db, account, space.id, { attempts: 0 });
    });
    for (const { folder, end } of parts) if (end !== null) this.forget(folder.id);
    if (this.written < this.nextLook) return;
    this.nextLook = this.written * NEXT_LOOK;
    await countFilesAnew(this.database);
  }

  private note(folder: number, ids: readonly number[]): void {
    const seen = this.seen.get(folder);
    if (seen) for (const id of ids) seen.push(id);
    else this.seen.set(folder, [...ids]);
  }

  private *seenIn(folders: readonly { id: number }[]): Generator<number> {
    for (const { id } of folders) yield* this.seen.get(id) ?? [];
  }

  private forget(folder: number): void {
    this.seen.delete(folder);
    this.unwritten.delete(folder);
  }
}
