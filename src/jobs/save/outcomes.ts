import { addSavedFiles, type LeftFile, leaveFiles, type SavedFile } from '../../store/archive/bags';
import type { Queryable } from '../../store/database';
import type { Kept } from './intake';

/** What became of a file: it was saved, once the disk keeps it; or it was left. */
export type Outcome = { file: number; placement: number; encoded: number } & (
  | { kept(): Promise<Kept> }
  | { reason: LeftFile['reason'] }
);

/** Files, octets and milliseconds after which what became of files is written down. */
const FILES = 64;
const OCTETS = 16 * 2 ** 20;
const LONGEST_MS = 400;
/** Files up to which more are taken in while the disk or the database is behind. */
const MOST_FILES = 512;

/**
 * Writes down what became of files, many at a time and while the next ones come in: at most one batch is being written. A file
 * counts as saved only once the disk keeps it.
 */
export class Outcomes {
  private batch: Outcome[] = [];
  private octets = 0;
  private since = Date.now();
  private writing: Promise<void> = Promise.resolve();
  private isWriting = false;

  /** @param write does what it is given in a transaction. */
  constructor(
    private readonly account: number,
    private readonly bag: number,
    private readonly write: (act: (client: Queryable) => Promise<void>) => Promise<void>,
  ) {}

  async add(outcome: Outcome): Promise<void> {
    this.batch.push(outcome);
    this.octets += outcome.encoded;
    const isDue = this.batch.length >= FILES || Date.now() - this.since >= LONGEST_MS;
    const isFull = this.batch.length >= MOST_FILES || this.octets >= OCTETS;
    if (isFull || (isDue && !this.isWriting)) await this.flush();
  }

  /** Everything is written down after this. */
  async settle(): Promise<void> {
    await this.flush();
    await this.writing;
  }

  private async flush(): Promise<void> {
    const { batch } = this;
    this.batch = [];
    this.octets = 0;
    this.since = Date.now();
    try {
      await this.writing;
    } catch (error) {
      // Nothing is under way any more when this throws.
      await Promise.allSettled(batch.map((outcome) => ('kept' in outcome ? outcome.kept() : undefined)));
      throw error;
    }
    this.isWriting = true;
    this.writing = this.writeDown(batch).finally(() => {
      this.isWriting = false;
    });
    // Whoever waits for it hears of a failure.
    this.writing.catch(() => undefined);
  }

  private async writeDown(batch: readonly Outcome[]): Promise<void> {
    const saved: SavedFile[] = [];
    const left: LeftFile[] = [];
    let failure: { error: unknown } | undefined;
    const kept = await Promise.allSettled(batch.map((outcome) => ('kept' in outcome ? outcome.kept() : undefined)));
    for (const [at, outcome] of batch.entries()) {
      if ('reason' in outcome) {
        left.push(outcome);
        continue;
      }
      const { file, placement, encoded } = outcome;
      const result = kept[at];
      if (result?.status === 'fulfilled' && result.value) saved.push({ file, placement, encoded, ...result.value });
      else
        failure ??= { error: result?.status === 'rejected' ? result.reason : new Error(`File ${file} was not kept.`) };
    }
    if (saved.length + left.length > 0)
      await this.write(async (client) => {
        if (saved.length > 0) await addSavedFiles(client, this.account, this.bag, saved);
        if (left.length > 0) await leaveFiles(client, this.account, this.bag, left);
      });
    if (failure) throw failure.error;
  }
}
