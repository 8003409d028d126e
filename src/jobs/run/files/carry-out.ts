import { chunksOf, numbersOf } from '../../../core/sets/ranges';
import { collectionOf } from '../../../core/space/path';
import { pathInTrash } from '../../../core/space/trash';
import type { DavClient, Watch } from '../../../dav/client';
import { askSpace } from '../../../dav/listing';
import type { SpaceProblem } from '../../../dav/problem';
import { look } from '../../../dav/transfer';
import type { MailServer } from '../../../mail/server';
import type { Account } from '../../../store/access/accounts';
import type { Queryable } from '../../../store/database';
import { tell } from '../../../store/events';
import { enqueue, type Job } from '../../../store/jobs';
import {
  beginFiles,
  closeFiles,
  leaveFiles,
  pendingFiles,
  type RunFile,
  reopenFiles,
  runFiles,
  type SentFile,
  sentFiles,
} from '../../../store/runs/file-runs';
import {
  addWorked,
  type LeftReason,
  noteRefusal,
  type Run,
  type RunPhase,
  runById,
  updateRun,
  wantedOf,
} from '../../../store/runs/runs';
import { type MovedFile, noteFigures, noteGone } from '../../../store/space/listing';
import { beginListing, type FileSpace, spaceById, updateSpace } from '../../../store/space/spaces';
import type { Turn, WorkContext } from '../../context';
import { type Fence, fenceOf } from '../../fence';
import { openSpace } from '../../space/sign-in';
import { quotaSnapshot, writeEnd } from '../conclude';
import type { RunOutcome } from '../run';
import { FileFolders } from './folders';
import { isAsItWas, isRefusal, reasonOf, type Sent, send, whatBecameOf } from './sender';
import { StayingMail } from './staying-mail';
import { StayingPictures } from './staying-pictures';

/** Files that are looked at, written down and sent together. */
const PACK = 64;
/** Requests at a time. */
const AT_A_TIME = 4;
/** Milliseconds between two announcements of what is done. */
const ANNOUNCED_MS = 400;

/** Reasons that show that others changed something there: it is listed again. */
const BEHIND = new Set<LeftReason>(['vanished', 'changed', 'there', 'unknown', 'folder-gone']);

/** A file that can be sent, or was. */
interface Ready {
  file: RunFile;
  sent: SentFile;
}

/**
 * Carries out a run on exactly the files of a file space that were frozen for it: moves them to its trash, back from there, or deletes
 * them.
 *
 * Each is looked at first, and left where it is not as it was. What is sent is written down before, and closed when it is known what
 * became of it; of what was not closed that is found out first, by what lies where.
 */
export async function carryOutFiles(
  context: WorkContext,
  job: Job,
  account: Account,
  run: Run,
  signIn: () => Promise<MailServer>,
  turn: Turn,
  watch: Watch,
): Promise<RunOutcome> {
  const { database } = context;
  const space = run.space === null ? undefined : await spaceById(database, account.id, run.space);
  const carrier = new FileCarrier(context, job, account, run, signIn, turn);
  // Nothing has to be found out, so it ends though the file space may let nobody in.
  if (run.wanted === 'cancel' && (await sentFiles(database, account.id, run.id)).length === 0)
    return carrier.endWithout('cancelled', 'cancelled');
  if (!space) return carrier.endWithout('done', 'folder-gone');
  const client = await openSpace(context, account, space, watch);
  try {
    return await carrier.carryOut(space, client);
  } finally {
    client.close();
  }
}

class FileCarrier {
  private readonly fenced: Fence;
  private since = Date.now();
  private announcedAt = 0;

  constructor(
    private readonly context: WorkContext,
    private readonly job: Job,
    private readonly account: Account,
    private readonly run: Run,
    private readonly signIn: () => Promise<MailServer>,
    private readonly turn: Turn,
  ) {
    this.fenced = fenceOf(context, job, { bySets: true });
  }

  /** Leaves all that is pending, and asks the file space nothing. */
  async endWithout(outcome: 'done' | 'cancelled', reason: LeftReason): Promise<RunOutcome> {
    const { database } = this.context;
    await this.begun();
    const sent = await sentFiles(database, this.account.id, this.run.id);
    await this.leave(
      'unknown',
      sent.map(({ id }) => id),
    );
    await this.leave(reason, [...numbersOf(await pendingFiles(database, this.account.id, this.run.id))]);
    await writeEnd(this.context, this.job, this.account, this.run, outcome, await this.snapshot());
    return outcome;
  }

  /** Begins, or goes on. */
  private async begun(): Promise<void> {
    await this.says('measuring');
    const before = this.run.before ?? (await this.snapshot());
    await this.fenced(async (db) => {
      await updateRun(db, this.account.id, this.run.id, { state: 'running', before, problem: null });
      await this.announce(db);
    });
  }

  async carryOut(space: FileSpace, client: DavClient): Promise<RunOutcome> {
    const { database } = this.context;
    await this.begun();
    const mail = new StayingMail(database, this.account, this.run.id, this.signIn);
    const work = new SpaceWork(database, client, this.account.id, space, this.run, this.fenced, mail, this);
    let outcome: RunOutcome;
    try {
      await work.recover();
      outcome = await work.work();
    } finally {
      await mail.close();
    }
    if (outcome === 'paused') return outcome;
    await this.says('concluding');
    const asked = await askSpace(client, space.root);
    await this.fenced(async (db) => {
      await noteFigures(db, this.account.id, space.id);
      const { quotaUsed = null, quotaAvailable = null } = asked;
      await updateSpace(db, this.account.id, space.id, { quotaUsed, quotaAvailable, askedAt: new Date() });
      const left = (await runById(db, this.account.id, this.run.id))?.left ?? [];
      const isBehind = left.some(({ reason }) => BEHIND.has(reason));
      if (isBehind && (await beginListing(db, this.account.id, space.id)))
        await enqueue(db, this.account.id, 'list-space', space.id);
      await tell(db, this.account.id, 'space', { id: space.id });
    });
    await writeEnd(this.context, this.job, this.account, this.run, outcome, await this.snapshot());
    return outcome;
  }

  /** How full it is: what both servers say is asked anew. */
  private async snapshot() {
    const server = await this.signIn();
    try {
      return await quotaSnapshot(this.context.database, this.account, server);
    } finally {
      await server.close();
    }
  }

  async leave(reason: LeftReason, ids: readonly number[], because?: SpaceProblem): Promise<void> {
    if (ids.length === 0) return;
    await this.fenced(async (db) => {
      // The index was behind: what is there now is found by the next listing.
      if (reason === 'vanished' || reason === 'changed') await noteGone(db, this.account.id, ids);
      await leaveFiles(db, this.account.id, this.run.id, reason, ids);
      if (because) await noteRefusal(db, this.account.id, this.run.id, because);
      await this.announce(db);
    });
  }

  /** Notes, with what was done, that it got on. */
  async progressed(db: Queryable): Promise<void> {
    const worked = Date.now() - this.since;
    this.since = Date.now();
    await addWorked(db, this.account.id, this.run.id, worked);
    await this.turn.progressed(db);
    await this.announce(db);
  }

  /** Says what is being done now, and with how many files. */
  async says(phase: RunPhase, files = 0): Promise<void> {
    await this.fenced(async (db) => {
      await updateRun(db, this.account.id, this.run.id, { doing: { phase, messages: files } });
      await this.announce(db);
    });
  }

  /** Tells of the run, unless that was just done and what follows tells of it too. */
  private async announce(db: Queryable): Promise<void> {
    if (Date.now() - this.announcedAt < ANNOUNCED_MS) return;
    this.announcedAt = Date.now();
    await tell(db, this.account.id, 'run', await runById(db, this.account.id, this.run.id));
  }
}

/** What a run does at the server of a file space. */
class SpaceWork {
  private readonly folders: FileFolders;
  private readonly pictures: StayingPictures;
  /** The folder of this run in the trash. */
  private trash: Promise<string> | undefined;
  /** What was sent before the run was interrupted, and was not done by then. */
  private readonly open = new Set<number>();

  constructor(
    private readonly database: Queryable,
    private readonly client: DavClient,
    private readonly account: number,
    private readonly space: FileSpace,
    private readonly run: Run,
    private readonly fenced: Fence,
    private readonly mail: StayingMail,
    private readonly told: Pick<FileCarrier, 'leave' | 'progressed' | 'says'>,
  ) {
    this.folders = new FileFolders(client, account, space, fenced);
    this.pictures = new StayingPictures(database, client, account, run.id);
  }

  /** Finds out what became of what was sent before the run was interrupted. */
  async recover(): Promise<void> {
    const open = await sentFiles(this.database, this.account, this.run.id);
    if (open.length === 0) return;
    await this.told.says('recovering', open.length);
    for (let at = 0; at < open.length; at += PACK) {
      const pack = open.slice(at, at + PACK);
      const ids = pack.map(({ id }) => id);
      const files = new Map((await runFiles(this.database, this.account, ids)).map((file) => [file.id, file]));
      const ready = pack.map((sent) => ({ file: files.get(sent.id) as RunFile, sent }));
      await this.closed(ready, ({ sent }) => whatBecameOf(this.client, sent));
    }
  }

  async work(): Promise<'done' | 'paused' | 'cancelled'> {
    const pending = await pendingFiles(this.database, this.account, this.run.id);
    for (const chunk of chunksOf(pending, PACK)) {
      const wanted = await wantedOf(this.database, this.account, this.run.id);
      if (wanted === 'pause') return 'paused';
      if (wanted === 'cancel') {
        await this.told.leave('cancelled', [
          ...numbersOf(await pendingFiles(this.database, this.account, this.run.id)),
        ]);
        return 'cancelled';
      }
      await this.pack(await runFiles(this.database, this.account, [...numbersOf(chunk)]));
    }
    return 'done';
  }

  private async pack(files: readonly RunFile[]): Promise<void> {
    await this.told.says('checking', files.length);
    const ready = (await eachAtATime(files, (file) => this.looked(file))).filter((one) => one !== undefined);
    if (ready.length === 0) return;
    await this.told.says('carrying-out', ready.length);
    await this.fenced((db) =>
      beginFiles(
        db,
        this.account,
        this.run.id,
        ready.map(({ sent }) => sent),
      ),
    );
    await this.closed(ready, ({ sent }) => send(this.client, sent, this.open.has(sent.id)));
  }

  /** Looks at a file as it is now, and makes room for it where it goes. Undefined where it is left. */
  private async looked(file: RunFile): Promise<Ready | undefined> {
    if (file.state !== 'there') return this.left(file, file.state === 'gone' ? 'vanished' : 'changed');
    try {
      const now = await look(this.client, file.path);
      if (!now) return await this.left(file, 'vanished');
      if (!isAsItWas(now, file)) return await this.left(file, 'changed');
      if (this.run.action === 'trash' && !((await this.pictures.letsGo(file.id)) && (await this.mail.letsGo(file.id))))
        return await this.left(file, 'last-copy');
      const to = await this.destinationOf(file);
      if (to !== null && this.run.action === 'restore' && (await look(this.client, to)))
        return await this.left(file, 'there');
      if (to !== null) await this.folders.idOf(collectionOf(to) as string);
      // The tag of this moment: a weak one may have become strong.
      const sent = {
        id: file.id,
        from: file.path,
        to,
        bytes: file.bytes,
        etag: now.etag ?? null,
        modified: file.modified,
      };
      return { file, sent };
    } catch (error) {
      if (!isRefusal(error)) throw error;
      return this.left(file, reasonOf(error), error);
    }
  }

  private async left(file: RunFile, reason: LeftReason, because?: SpaceProblem): Promise<undefined> {
    await this.told.leave(reason, [file.id], because);
  }

  /** Where a file goes: into the folder of this run in the trash, or back; null of a purge. */
  private async destinationOf(file: RunFile): Promise<string | null> {
    if (this.run.action === 'purge') return null;
    if (this.run.action === 'restore') return file.origin as string;
    this.trash ??= this.folders.ofRun(this.database, this.run);
    return pathInTrash(file.path, this.space.root, await this.trash);
  }

  /** Writes down what became of files. What is not known of some is thrown, once it is written down of the others. */
  private async closed(ready: readonly Ready[], find: (one: Ready) => Promise<Sent>): Promise<void> {
    const failures: unknown[] = [];
    const found = await eachAtATime(ready, async (one) => {
      try {
        return { one, sent: await find(one) };
      } catch (error) {
        failures.push(error);
        return undefined;
      }
    });
    const known = found.filter((each) => each !== undefined);
    const isRestore = this.run.action === 'restore';
    const moved: MovedFile[] = [];
    for (const { one, sent } of known) {
      if (typeof sent !== 'object' || !('done' in sent) || sent.done === 'gone') continue;
      const { etag = null, modified = null } = sent.done;
      const path = one.sent.to as string;
      const trash = isRestore ? { trashedBy: null, origin: null } : { trashedBy: this.run.id, origin: one.sent.from };
      const folder = await this.folders.idOf(collectionOf(path) as string);
      moved.push({ id: one.file.id, path, folder, etag, modified, ...trash });
    }
    const gone = known.flatMap(({ one, sent }) =>
      typeof sent === 'object' && 'done' in sent && sent.done === 'gone' ? [one.file.id] : [],
    );
    const pending = known.flatMap(({ one, sent }) => (sent === 'pending' ? [one.file.id] : []));
    await this.fenced(async (db) => {
      await closeFiles(db, this.account, this.run.id, this.space.id, moved, gone);
      for (const id of pending) this.open.add(id);
      if (pending.length > 0) await reopenFiles(db, this.account, this.run.id, pending);
      await this.told.progressed(db);
    });
    for (const { one, sent } of known) {
      if (typeof sent !== 'object' || !('left' in sent)) continue;
      // A folder that went meanwhile is made again for the next.
      if (sent.left === 'folder-gone') this.folders.forget();
      await this.told.leave(sent.left, [one.file.id], sent.because);
    }
    if (failures.length > 0) throw failures[0];
  }
}

/** Does something with each, some at a time; all that was begun has ended when it returns or throws. */
async function eachAtATime<T, R>(items: readonly T[], act: (item: T) => Promise<R>): Promise<R[]> {
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
