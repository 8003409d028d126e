import type { Bag as BagFolder } from '../../archive/bag';
import { MailProblem } from '../../mail/problem';
import { bySection } from '../../mail/sections';
import type { MailServer, Wanted } from '../../mail/server';
import { withThrottleRetry } from '../../mail/throttle-retry';
import type { Account } from '../../store/access/accounts';
import { enterArchived } from '../../store/archive/archived';
import {
  type Bag,
  bagById,
  cancelFilesOfBag,
  filesAtPlacements,
  leaveFiles,
  leaveRestOfBag,
  noteChecked,
  notePart,
  type PendingFile,
  pendingFiles,
  type UnsavedReason,
  updateBag,
} from '../../store/archive/bags';
import type { Queryable } from '../../store/database';
import { tell } from '../../store/events';
import { folderById, generationById } from '../../store/index/folders';
import { enqueue } from '../../store/jobs';
import type { Turn, WorkContext } from '../context';
import type { Fence } from '../fence';
import type { Intake } from './intake';
import { intakeOf } from './intake-of';
import { Outcomes } from './outcomes';
import { indexLines, infoOf } from './seal';

/** Files that are looked up at a time. */
const PAGE = 500;
/** Milliseconds between two announcements of what is done, and between two looks at what the person wants. */
const ANNOUNCED_MS = 400;
const HEEDED_MS = 200;

/** A person wants the work to stop. */
export class Stopped extends Error {
  constructor(readonly wanted: 'pause' | 'cancel') {
    super(wanted);
  }
}

/**
 * Fills a bag: what it is to hold is fetched, written, and flushed to the disk; then the bag gets its name; then every octet is
 * read back and compared with what the server sent. Only what was read back as it was sent counts as checked. Killed anywhere,
 * it goes on with the file where it was.
 */
export class Filling {
  private readonly server: MailServer;
  private readonly folder: BagFolder;
  private readonly intake: Intake;
  private readonly outcomes: Outcomes;
  private announcedAt = 0;
  private heededAt = 0;
  /** The generation whose folder was opened last, and had its UIDVALIDITY. */
  private opened: number | undefined;

  /** @param wanted whether somebody wants it to stop. */
  constructor(
    private readonly context: WorkContext,
    private readonly fenced: Fence,
    private readonly account: Account,
    server: MailServer,
    private readonly turn: Turn,
    private readonly bag: Bag,
    private readonly wanted: () => Promise<Bag['wanted']>,
  ) {
    this.server = withThrottleRetry(server, async () => undefined);
    this.folder = context.archive.bag(account.id, bag.folder);
    this.intake = intakeOf(context.database, account, bag, this.folder);
    this.outcomes = new Outcomes(account.id, bag.id, (act) => this.write(act));
  }

  /** @throws Stopped, and DiskFull. */
  async fill(): Promise<void> {
    // Who was killed while it dropped what was saved does that again.
    const wanted = await this.wanted();
    if (wanted) throw new Stopped(wanted);
    await this.says('running');
    if (!(await this.folder.isWhole())) {
      await this.fetchAll();
      await this.seal();
    }
    await this.says('checking');
    await this.readBack();
  }

  /** What was saved and can't be used by itself goes. @param isWhole whether a bag goes too that is whole. */
  async drop(isWhole = false): Promise<void> {
    if (!isWhole && (await this.folder.isWhole())) return;
    await this.folder.erase();
    await this.fenced((client) => cancelFilesOfBag(client, this.account.id, this.bag.id));
  }

  /** @param also what is written in the same transaction. */
  async end(
    state: 'done' | 'paused' | 'cancelled',
    problem: Bag['problem'] = null,
    also: (client: Queryable) => Promise<void> = async () => undefined,
  ): Promise<void> {
    await this.fenced(async (client) => {
      const isChecked = state === 'done';
      const { account, bag } = this;
      await updateBag(client, account.id, bag.id, { state, wanted: null, attempts: 0, problem, isChecked });
      if (isChecked && bag.place === 'here') {
        await enterArchived(client, account.id, bag.id);
        await enqueue(client, account.id, 'read-bag', bag.id);
      }
      await also(client);
      await this.announce(client, true);
    });
  }

  private async fetchAll(): Promise<void> {
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

  private async seal(): Promise<void> {
    const { id, form } = this.bag;
    const { intake, fenced, account } = this;
    const index = await this.folder.write('index.jsonl', indexLines(intake));
    async function* files() {
      yield index;
      for await (const file of intake.files()) {
        if (form === 'mbox') await fenced((client) => notePart(client, account.id, id, file));
        yield file;
      }
    }
    await this.folder.seal(files(), infoOf(this.bag, new Date()));
  }

  /** Reads every file back from the disk. A bag that the person downloads is only a means: what they hand in is checked. */
  private async readBack(): Promise<void> {
    for await (const { equal, left } of this.intake.readBack()) {
      await this.write(async (client) => {
        if (left.length > 0) await leaveFiles(client, this.account.id, this.bag.id, left);
        if (this.bag.place === 'here') await noteChecked(client, this.account.id, this.bag.id, equal);
      });
      await this.heed();
    }
  }

  /** Stops where a person wants that; asked no more often than once in a while. */
  private async heed(): Promise<void> {
    if (Date.now() - this.heededAt < HEEDED_MS) return;
    const wanted = await this.wanted();
    this.heededAt = Date.now();
    if (wanted) throw new Stopped(wanted);
  }

  private async says(state: 'running' | 'checking'): Promise<void> {
    await this.fenced(async (client) => {
      await updateBag(client, this.account.id, this.bag.id, { state, problem: null });
      await this.announce(client, true);
    });
  }

  /** Writes down what became of a file. */
  private async write(act: (client: Queryable) => Promise<void>): Promise<void> {
    await this.fenced(async (client) => {
      await act(client);
      await this.turn.progressed(client);
      await this.announce(client);
    });
  }

  private async announce(client: Queryable, surely = false): Promise<void> {
    if (!surely && Date.now() - this.announcedAt < ANNOUNCED_MS) return;
    this.announcedAt = Date.now();
    await tell(client, this.account.id, 'bag', await bagById(client, this.account.id, this.bag.id));
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
