import { MailProblem } from '../../mail/problem';
import { bySection } from '../../mail/sections';
import type { MailServer, Wanted } from '../../mail/server';
import { withThrottleRetry } from '../../mail/throttle-retry';
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
import { GenerationOpener } from '../open-generation';
import { BagWriting } from './bag-writing';
import type { Intake } from './intake';
import { intakeOf } from './intake-of';
import { Outcomes } from './outcomes';
import { HelperLost, ReadAhead, type ShareOf, sharesOf } from './read-ahead';

/** Files that are looked up at a time; between two pages the line is idle for a moment. */
const PAGE = 4_000;
/** Files that one connection is asked for at a time. */
const SHARE_FILES = 256;
/** Shares from which on more connections than one are worth signing in for. */
const MANY_SHARES = 4;

/** Fills a bag with what the mail server has: files and messages are fetched over several connections, and written in their order. */
export class Filling extends BagWriting {
  protected readonly intake: Intake;
  private readonly server: MailServer;
  private readonly ahead: ReadAhead;
  private readonly outcomes: Outcomes;
  private readonly folders: GenerationOpener;

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
    this.server = withThrottleRetry(server, async () => undefined);
    this.folders = new GenerationOpener(context.database, account.id);
    this.ahead = new ReadAhead(this.server, another, (one, generation) => this.folders.isThere(one, generation));
    this.outcomes = new Outcomes(account.id, bag.id, (act) => this.write(act));
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
      await this.ahead.close();
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
      await this.fetch(sharesOf(files, wantedOf, SHARE_FILES));
      await this.outcomes.settle();
      count += files.length;
    }
    return count;
  }

  private async fetch(shares: readonly ShareOf<PendingFile>[]): Promise<void> {
    if (shares.length >= MANY_SHARES) this.ahead.grow();
    const again: PendingFile[] = [];
    for await (const { share, isThere, pieces } of this.ahead.each(shares)) {
      let dealt = 0;
      try {
        if (isThere)
          for await (const { of, octets } of bySection(pieces)) {
            await this.heed();
            const file = share.items[of] as PendingFile;
            if ((await this.receive(file, octets)) === 'again') again.push(file);
            dealt = of + 1;
          }
        else for (const file of share.items) await this.leave(file, 'vanished');
      } catch (error) {
        if (!(error instanceof HelperLost)) throw error;
        again.push(...share.items.slice(dealt));
      }
    }
    for (const file of again) {
      await this.heed();
      if (!(await this.folders.isThere(this.server, file.generation))) await this.leave(file, 'vanished');
      else if ((await this.receive(file, this.server.download(wantedOf(file)))) === 'again') throw throttled();
    }
  }

  /** Takes a file in, or leaves it; or says that the server asked for patience. */
  private async receive(file: PendingFile, octets: AsyncIterable<Buffer>): Promise<'again' | undefined> {
    const fetched = { encoded: 0 };
    try {
      const { kept, takeBack } = await this.intake.receive(file, counted(octets, fetched));
      if (fetched.encoded === file.size) {
        const { placement, size: encoded } = file;
        await this.outcomes.add({ file: file.file, placement, encoded, kept });
        return undefined;
      }
      await takeBack();
      await this.leave(file, 'differs');
    } catch (error) {
      if (!(error instanceof MailProblem)) throw error;
      if (error.kind === 'throttled') return 'again';
      if (error.kind === 'message-gone') await this.leave(file, 'vanished');
      // The server says no to this one alone; the others are tried.
      else if (error.kind === 'command-refused') await this.leave(file, 'unreadable');
      else throw error;
    }
    return undefined;
  }

  private leave({ file, placement, size: encoded }: PendingFile, reason: UnsavedReason): Promise<void> {
    return this.outcomes.add({ file, placement, encoded, reason });
  }
}

/** The section of a file; one octet more shows that it is longer than was said. */
function wantedOf({ uid, part, size }: PendingFile): Wanted {
  return { uid, section: part, expected: size, most: size + 1 };
}

function throttled(): MailProblem {
  return new MailProblem('throttled', 'The mail server asks for patience.');
}

async function* counted(octets: AsyncIterable<Buffer>, into: { encoded: number }): AsyncGenerator<Buffer> {
  for await (const piece of octets) {
    into.encoded += piece.length;
    yield piece;
  }
}
