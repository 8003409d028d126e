import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import {
  type Bag,
  filesAtPlacements,
  leaveRestOfBag,
  type PendingFile,
  pendingFiles,
  type UnsavedReason,
} from '../../store/archive/bags';
import type { Turn, WorkContext } from '../context';
import type { Fence } from '../fence';
import { BagWriting } from './bag-writing';
import { counted, Fetching } from './fetching';
import type { Intake } from './intake';
import { intakeOf } from './intake-of';
import { Outcomes } from './outcomes';

/** Files that are looked up at a time; between two pages the line is idle for a moment. */
const PAGE = 4_000;

/** Fills a bag with what the mail server has: files and messages are fetched over several connections, and written in their order. */
export class Filling extends BagWriting {
  protected readonly intake: Intake;
  private readonly fetching: Fetching;
  private readonly outcomes: Outcomes;

  /**
   * @param another signs in once more.
   * @param wanted whether somebody wants it to stop.
   */
  constructor(
    context: WorkContext,
    fenced: Fence,
    account: Account,
    server: MailServer,
    another: () => Promise<MailServer>,
    turn: Turn,
    bag: Bag,
    wanted: () => Promise<Bag['wanted']>,
  ) {
    super(context, fenced, account, turn, bag, wanted);
    this.intake = intakeOf(context.database, account, bag, this.folder);
    this.outcomes = new Outcomes(account.id, bag.id, (act) => this.write(act));
    this.fetching = new Fetching(context.database, account.id, server, another, {
      heed: () => this.heed(),
      take: (file, octets) => this.take(file, octets),
      leave: (file, reason) => this.leave(file, reason),
    });
  }

  protected async takeIn(): Promise<void> {
    await this.intake.begin();
    try {
      // Once through is enough, unless other programs moved messages meanwhile.
      while ((await this.fetchPending()) > 0) await this.outcomes.settle();
    } finally {
      // Nothing is written any more once this ends, however it does.
      await this.intake.end();
      await this.outcomes.settle().catch(() => undefined);
      await this.fetching.close();
    }
    await this.fenced((client) => leaveRestOfBag(client, this.account.id, this.bag.id, 'vanished'));
  }

  /** Fetches what was not dealt with; gives how many files that was. */
  private async fetchPending(): Promise<number> {
    const { database } = this.context;
    const pending = await pendingFiles(database, this.account.id, this.bag.id);
    let count = 0;
    for (let at = 0; at < pending.files.length; at += PAGE) {
      const page = (ids: ArrayLike<number>) => Array.prototype.slice.call(ids, at, at + PAGE) as number[];
      const files = await filesAtPlacements(database, this.account.id, page(pending.files), page(pending.placements));
      await this.intake.ready(files);
      await this.fetching.fetch(files);
      await this.outcomes.settle();
      count += files.length;
    }
    return count;
  }

  /** Takes a file in, or leaves it. */
  private async take(file: PendingFile, octets: AsyncIterable<Buffer>): Promise<void> {
    const fetched = { encoded: 0 };
    const { kept, takeBack } = await this.intake.receive(file, counted(octets, fetched));
    if (fetched.encoded === file.size) {
      const { placement, size: encoded } = file;
      return this.outcomes.add({ file: file.file, placement, encoded, kept });
    }
    await takeBack();
    return this.leave(file, 'differs');
  }

  private leave({ file, placement, size: encoded }: PendingFile, reason: UnsavedReason): Promise<void> {
    return this.outcomes.add({ file, placement, encoded, reason });
  }
}
