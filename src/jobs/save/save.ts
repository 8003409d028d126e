import { type Bag as BagFolder, DiskFull } from '../../archive/bag';
import { filePath } from '../../core/archive/file-path';
import { numbered } from '../../core/archive/safe-name';
import { fold, oneLine } from '../../core/text';
import { decoded } from '../../mail/mime/decoded';
import { MailProblem } from '../../mail/problem';
import type { MailServer } from '../../mail/server';
import { withThrottleRetry } from '../../mail/throttle-retry';
import type { Account } from '../../store/access/accounts';
import {
  addSavedFile,
  type Bag,
  bagById,
  cancelFilesOfBag,
  indexedFiles,
  isPathTaken,
  leaveFile,
  leaveRestOfBag,
  noteChecked,
  type PendingFile,
  pendingFiles,
  savedFiles,
  type UnsavedReason,
  updateBag,
  wantedOfBag,
} from '../../store/archive/bags';
import type { Queryable } from '../../store/database';
import { tell } from '../../store/events';
import { folderById, generationById } from '../../store/index/folders';
import { finishJob, type Job } from '../../store/jobs';
import type { Turn, WorkContext } from '../context';
import { type Fence, fenceOf } from '../fence';

/** Files that are looked up at a time. */
const PAGE = 500;
/** Milliseconds between two announcements of what is done. */
const ANNOUNCED_MS = 400;

/** What is said where this machine has no room left. */
export const DISK_FULL = {
  kind: 'disk-full',
  detail: 'There is no room left on the disk of the machine that Tamsel runs on. Make room there, then resume.',
};

/**
 * Saves files into a bag: each is fetched, written, and flushed to the disk; then the bag gets its name; then every octet is
 * read back and compared with what the server sent. Only files that were read back as they were sent count as checked. Killed
 * anywhere, it goes on with the file where it was.
 */
export async function save(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  turn: Turn,
): Promise<void> {
  const bag = await bagById(context.database, account.id, job.subject);
  if (bag) await new Saver(context, job, account, server, turn, bag).save();
  else await finishJob(context.database, job);
}

/** A person wants the work to stop. */
class Stopped extends Error {
  constructor(readonly wanted: 'pause' | 'cancel') {
    super(wanted);
  }
}

class Saver {
  private readonly fenced: Fence;
  private readonly server: MailServer;
  private readonly folder: BagFolder;
  /** By folded path, the number that was given last to a file of that name. */
  private readonly numbers = new Map<string, number>();
  private opened: { generation: number; isUsable: boolean } | undefined;
  private announcedAt = 0;

  constructor(
    private readonly context: WorkContext,
    private readonly job: Job,
    private readonly account: Account,
    server: MailServer,
    private readonly turn: Turn,
    private readonly bag: Bag,
  ) {
    this.fenced = fenceOf(context, job);
    this.server = withThrottleRetry(server, async () => undefined);
    this.folder = context.archive.bag(account.id, bag.folder);
  }

  async save(): Promise<void> {
    try {
      await this.says('running');
      if (!(await this.folder.isWhole())) {
        await this.fetchAll();
        await this.seal();
      }
      await this.says('checking');
      await this.readBack();
      await this.end('done', { isChecked: true });
    } catch (error) {
      if (error instanceof DiskFull) await this.end('paused', { problem: DISK_FULL });
      else if (error instanceof Stopped) await this.stop(error.wanted);
      else throw error;
    }
  }

  private async stop(wanted: 'pause' | 'cancel'): Promise<void> {
    if (wanted === 'pause') return this.end('paused', {});
    // What was saved and can't be used by itself goes; a bag that is whole stays.
    if (!(await this.folder.isWhole())) {
      await this.folder.erase();
      await this.fenced((client) => cancelFilesOfBag(client, this.account.id, this.bag.id));
    }
    await this.end('cancelled', {});
  }

  private async fetchAll(): Promise<void> {
    const { database } = this.context;
    const page = () => pendingFiles(database, this.account.id, this.bag.id, PAGE);
    for (let files = await page(); files.length > 0; files = await page())
      for (const file of files) await this.fetch(file);
    await this.fenced((client) => leaveRestOfBag(client, this.account.id, this.bag.id, 'vanished'));
  }

  private async fetch(file: PendingFile): Promise<void> {
    await this.heed();
    if (!(await this.open(file.generation))) return this.leave(file, 'vanished');
    const path = await this.pathFor(file);
    const fetched = { encoded: 0 };
    try {
      const octets = counted(this.server.download(file.uid, file.part, file.size, file.size + 1), fetched);
      const written = await this.folder.write(path, decoded(octets, file.encoding));
      if (fetched.encoded !== file.size) {
        await this.folder.remove(path);
        return this.leave(file, 'differs');
      }
      const { placement } = file;
      await this.write((client) =>
        addSavedFile(client, this.account.id, this.bag.id, {
          ...written,
          file: file.file,
          placement,
          encoded: file.size,
        }),
      );
    } catch (error) {
      if (!(error instanceof MailProblem)) throw error;
      if (error.kind === 'message-gone') return this.leave(file, 'vanished');
      // The server says no to this one alone; the others are tried.
      if (error.kind === 'command-refused') return this.leave(file, 'unreadable');
      throw error;
    }
  }

  /** Whether the folder of a generation is there, and has that UIDVALIDITY. */
  private async open(generation: number): Promise<boolean> {
    if (this.opened?.generation === generation) return this.opened.isUsable;
    const { database } = this.context;
    const { folder, uidValidity } = await generationById(database, this.account.id, generation);
    const stored = await folderById(database, this.account.id, folder);
    let isUsable = false;
    try {
      isUsable = stored !== undefined && (await this.server.open(stored.serverName)).uidValidity === uidValidity;
    } catch (error) {
      if (!(error instanceof MailProblem) || error.kind !== 'folder-gone') throw error;
    }
    this.opened = { generation, isUsable };
    return isUsable;
  }

  /** A path that no other file of the bag has, in any letter case. */
  private async pathFor({ name, type, date, author }: PendingFile): Promise<string> {
    const day = new Intl.DateTimeFormat('en-CA', { timeZone: this.account.settings.timeZone }).format(date);
    const filed = filePath({ name, type, day, author });
    const key = fold(`${filed.folder}/${filed.name}`);
    for (let number = (this.numbers.get(key) ?? 0) + 1; ; number++) {
      const path = `${filed.folder}/${number === 1 ? filed.name : numbered(filed.name, number)}`;
      if (await isPathTaken(this.context.database, this.account.id, this.bag.id, path)) continue;
      this.numbers.set(key, number);
      return path;
    }
  }

  private async leave({ file, placement, size }: PendingFile, reason: UnsavedReason): Promise<void> {
    await this.write((client) =>
      leaveFile(client, this.account.id, this.bag.id, { file, placement, encoded: size }, reason),
    );
  }

  private async seal(): Promise<void> {
    const { database } = this.context;
    const { id, label } = this.bag;
    const of = this.account.id;
    const index = await this.folder.write(
      'index.jsonl',
      lines(pages((after) => indexedFiles(database, of, id, after, PAGE))),
    );
    async function* files() {
      yield index;
      for await (const { path, size, sha256 } of pages((after) => savedFiles(database, of, id, after, PAGE)))
        yield { path, size, sha256 };
    }
    await this.folder.seal(files(), {
      'Bagging-Date': new Date().toISOString().slice(0, 10),
      'External-Identifier': `${id}`,
      'External-Description': oneLine(label),
    });
  }

  /** Reads every file back from the disk. A bag that the person downloads is only a means: what they hand in is checked. */
  private async readBack(): Promise<void> {
    const { database } = this.context;
    for await (const file of pages((after) => savedFiles(database, this.account.id, this.bag.id, after, PAGE))) {
      if (file.checkedAt) continue;
      await this.heed();
      const found = await this.folder.read(file.path);
      if (found?.size !== file.size || found.sha256 !== file.sha256)
        await this.write((client) => leaveFile(client, this.account.id, this.bag.id, file, 'differs'));
      else if (this.bag.place === 'here')
        await this.write((client) => noteChecked(client, this.account.id, this.bag.id, [file.file]));
    }
  }

  /** Stops where a person wants that. */
  private async heed(): Promise<void> {
    const wanted = await wantedOfBag(this.context.database, this.account.id, this.bag.id);
    if (wanted) throw new Stopped(wanted);
  }

  private async says(state: 'running' | 'checking'): Promise<void> {
    await this.fenced(async (client) => {
      await updateBag(client, this.account.id, this.bag.id, { state, problem: null });
      await this.announce(client, true);
    });
  }

  private async end(
    state: 'done' | 'paused' | 'cancelled',
    more: { isChecked?: boolean; problem?: Bag['problem'] },
  ): Promise<void> {
    await this.fenced(async (client) => {
      await updateBag(client, this.account.id, this.bag.id, {
        state,
        wanted: null,
        attempts: 0,
        problem: null,
        ...more,
      });
      await finishJob(client, this.job);
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

/** Items of a list that is read page by page, each page behind the last item's number. */
async function* pages<T extends { file: number }>(page: (after: number) => Promise<T[]>): AsyncGenerator<T> {
  for (let read = await page(0); read.length > 0; read = await page(read.at(-1)?.file ?? 0)) yield* read;
}

/** A line of JSON an item (RFC 8259). */
async function* lines(items: AsyncIterable<object>): AsyncGenerator<Buffer> {
  for await (const item of items) yield Buffer.from(`${JSON.stringify(item)}\n`);
}

async function* counted(octets: AsyncIterable<Buffer>, into: { encoded: number }): AsyncGenerator<Buffer> {
  for await (const piece of octets) {
    into.encoded += piece.length;
    yield piece;
  }
}
