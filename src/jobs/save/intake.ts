import type { BaggedFile } from '../../archive/bag';
import type { LeftFile, PendingFile, SavedFile } from '../../store/archive/bags';

/** Where a file or message is in a bag. */
export type Kept = Pick<SavedFile, 'path' | 'size' | 'sha256' | 'at' | 'length'>;

/** A file or message whose octets were taken in. */
export interface Received {
  /** Where it is, once the disk keeps it; asked of many at once, since the disk may have to be asked. */
  kept(): Promise<Kept>;
  /** Takes it away again, before anything else is taken in. */
  takeBack(): Promise<void>;
}

/** What reading back came to. */
export interface ReadBack {
  /** Ids of files that are as they were. */
  equal: number[];
  left: LeftFile[];
}

/** How files and messages lie in a bag: each by itself, or in mbox files. */
export interface Intake {
  /** Makes the bag what was noted of it, where the work was begun before. */
  begin(): Promise<void>;
  /** Makes ready for these. */
  ready(files: readonly PendingFile[]): Promise<void>;
  /** Takes one in. Throws what its octets throw, and DiskFull; nothing of it stays then. */
  receive(file: PendingFile, octets: AsyncIterable<Buffer>): Promise<Received>;
  /** Ends taking in; the disk keeps all of it then, or whoever waits for that has heard of it. */
  end(): Promise<void>;
  /** What the index says of each, a line each; the order is that of the files. */
  index(): AsyncIterable<object>;
  /** The files of the bag that hold what was taken in. */
  files(): AsyncIterable<BaggedFile>;
  /**
   * Reads all of it back from the disk, some at a time.
   *
   * @param since what was read back from then on is passed by; where it is left out, what was ever read back.
   */
  readBack(since?: Date): AsyncIterable<ReadBack>;
}

/** Whether a file was read back, at an instant or later where there is one. */
export function isReadSince({ checkedAt }: { checkedAt: Date | null }, since?: Date): boolean {
  return checkedAt !== null && (since === undefined || checkedAt >= since);
}
