import type { MessageRecord } from '../../core/mailbox/record';
import { numbersOf, type Ranges, rangesOf } from '../../core/sets/ranges';
import { Threads } from '../../core/threads/threads';
import { MailProblem } from '../../mail/problem';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { countAnew, type Queryable } from '../../store/database';
import { ArrivalBatch, type Place } from '../../store/index/arrivals';
import { FoldedTexts } from '../../store/index/folded-texts';
import type { Fence } from '../fence';

/** Messages that are written together: a batch is what a kill can cost. */
const BATCH = 2_000;

/** Messages after which the planner is to know of them, and each time as many times more. */
const COUNTED_FROM = 1_000;
const COUNTED_AGAIN = 8;

/** Messages of a folder whose metadata is to be read and written. What is left of `uids` is not in the index. */
export interface DetailsTask {
  place: Place;
  uids: Ranges;
}

/** Gathers records of many folders. */
export interface Gatherer {
  add(place: Place, records: readonly MessageRecord[]): Promise<void>;
  /** Writes what was not written yet. */
  end(): Promise<void>;
}

/**
 * Reads the metadata of messages and writes it while more comes. Several may be under way at once, each on its connection:
 * they write by turns, and each reads on while its last batch is written.
 */
export class Details {
  /** One for each that reads, and one for each that is being written. */
  private readonly spare: ArrivalBatch[] = [];
  private readonly texts = new FoldedTexts();
  private readonly threads = new Threads();
  private turn: Promise<unknown> = Promise.resolve();
  private total = 0;
  private countAt = COUNTED_FROM;

  /**
   * @param onWritten is called with the number of messages that were written.
   */
  constructor(
    private readonly account: Account,
    private readonly fenced: Fence,
    private readonly onWritten: (messages: number) => Promise<void>,
  ) {}

  /** Does a task in the open folder; where it fails, what was not written is left of it. */
  async read(server: MailServer, task: DetailsTask): Promise<void> {
    const missing = new Set(numbersOf(task.uids));
    const unwritten = new Set(missing);
    let batch = this.emptyBatch();
    let writing: Promise<void> = Promise.resolve();
    const write = async () => {
      const full = batch;
      batch = this.emptyBatch();
      await writing;
      writing = this.write(full, unwritten);
      // It is awaited before the next, or at the end.
      writing.catch(() => undefined);
    };
    const collect = async (records: AsyncIterable<readonly MessageRecord[]>) => {
      for await (const read of records) {
        for (const record of read) {
          // A server may send what nobody asked for, or one message twice.
          if (missing.delete(record.uid)) batch.add(task.place, record);
        }
        if (batch.size >= BATCH) await write();
      }
    };
    try {
      await collect(server.metadata(task.uids));
      // What can't be read in full is kept with what can: the count of messages must equal the server's.
      if (missing.size > 0) await collect(server.bareMetadata(rangesOf(missing)));
      await write();
      await writing;
      // What is neither kept nor gone can't be left out in silence.
      if (missing.size > 0 && (await server.uids(rangesOf(missing))).length > 0)
        throw new MailProblem(
          'unreadable-answer',
          'The server gives no size or date for some messages, so Tamsel could not count them.',
        );
    } catch (error) {
      // What came before the server failed need not come again: a host may cut every connection before a batch is full.
      if (error instanceof MailProblem) {
        await write();
        await writing;
      }
      throw error;
    } finally {
      await writing.catch(() => undefined);
      this.spare.push(batch);
      task.uids = rangesOf(unwritten);
    }
  }

  /** Takes records of many folders, which are written together; each connection has one of its own. */
  gatherer(): Gatherer {
    let batch = this.emptyBatch();
    const write = async () => {
      const full = batch;
      batch = this.emptyBatch();
      if (full.size > 0) await this.write(full, new Set());
      else this.spare.push(full);
    };
    return {
      add: async (place, records) => {
        for (const record of records) batch.add(place, record);
        if (batch.size >= BATCH) await write();
      },
      end: write,
    };
  }

  private emptyBatch(): ArrivalBatch {
    const batch = this.spare.pop() ?? new ArrivalBatch(this.account.id, this.texts, this.threads);
    batch.clear();
    return batch;
  }

  private async write(batch: ArrivalBatch, unwritten: Set<number>): Promise<void> {
    const mine = this.turn.then(() => this.fenced((client) => this.writeIn(client, batch)));
    this.turn = mine.catch(() => undefined);
    await mine;
    for (const uid of batch.uids) unwritten.delete(uid);
    const { size } = batch;
    this.spare.push(batch);
    await this.onWritten(size);
  }

  /** Others query what is there already, so the planner has to be told of it meanwhile. */
  private async writeIn(client: Queryable, batch: ArrivalBatch): Promise<void> {
    await batch.write(client);
    this.total += batch.size;
    if (this.total < this.countAt) return;
    await countAnew(client);
    this.countAt = this.total * COUNTED_AGAIN;
  }
}
