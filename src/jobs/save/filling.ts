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
import { folderById, generationById } from '../../store/index/folders';
import type { Turn, WorkContext } from '../context';
import type { Fence } from '../fence';
import { BagWriting } from './bag-writing';
import type { Intake } from './intake';
import { intakeOf } from './intake-of';
import { Outcomes } from './outcomes';

/** Files that are looked up at a time; between two pages the line is idle for a moment. */
const PAGE = 4_000;

/** Fills a bag with what the mail server has: each file or message is fetched, and the next asked for meanwhile. */
export class Filling extends BagWriting {
  protected readonly intake: Intake;
  private readonly server: MailServer;
  private readonly outcomes: Outcomes;
  /** The generation whose folder was opened last, and had its UIDVALIDITY. */
  private opened: number | undefined;

  /** @param wanted whether somebody wants it to stop. */
  constructor(
    context: WorkContext,
    fenced: Fence,
    account: Account,
    server: MailServer,
    turn: Turn,
    bag: Bag,
    wanted: () => Promise<Bag['wanted']>,
  ) {
    super(context, fenced, account, turn, bag, wanted);
    this.intake = intakeOf(context.database, account, bag, this.folder);
    this.server = withThrottleRetry(server, async () => undefined);
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
      for (const group of byGeneration(files)) await this.fetch(group);
      await this.outcomes.settle();
      count += files.length;
    }
    return count;
  }

  /** Fetches files of one folder, each asked for while the one before it comes. */
  private async fetch(files: readonly PendingFile[]): Promise<void> {
    if (!(await this.isThere((files[0] as PendingFile).generation))) {
      for (const file of files) await this.leave(file, 'vanished');
      return;
    }
    const again: PendingFile[] = [];
    for await (const { of, octets } of bySection(this.server.downloads(files.map(wantedOf)))) {
      await this.heed();
      const file = files[of] as PendingFile;
      if ((await this.receive(file, octets)) === 'again') again.push(file);
    }
    for (const file of again) {
      await this.heed();
      if ((await this.receive(file, this.server.download(wantedOf(file)))) === 'again') throw throttled();
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

  /** Whether the folder of a generation is there, and has that UIDVALIDITY. */
  private async isThere(generation: number): Promise<boolean> {
    const { database } = this.context;
    const { folder, uidValidity } = await generationById(database, this.account.id, generation);
    const stored = await folderById(database, this.account.id, folder);
    if (!stored) return false;
    // Some servers go through all of a folder to open it.
    const isOpen = this.server.opened === stored.serverName && this.opened === generation;
    this.opened = undefined;
    try {
      if (!isOpen && (await this.server.open(stored.serverName)).uidValidity !== uidValidity) return false;
    } catch (error) {
      if (error instanceof MailProblem && error.kind === 'folder-gone') return false;
      throw error;
    }
    this.opened = generation;
    return true;
  }

  private leave({ file, placement, size: encoded }: PendingFile, reason: UnsavedReason): Promise<void> {
    return this.outcomes.add({ file, placement, encoded, reason });
  }
}

/** Files in the order given, those of a folder together. */
function byGeneration(files: readonly PendingFile[]): PendingFile[][] {
  const groups: PendingFile[][] = [];
  for (const file of files) {
    const group = groups.at(-1);
    if (group?.[0]?.generation === file.generation) group.push(file);
    else groups.push([file]);
  }
  return groups;
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
