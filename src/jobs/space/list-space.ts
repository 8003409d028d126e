import { asCollection } from '../../core/space/path';
import type { DavClient, Watch } from '../../dav/client';
import { askSpace, type Change, changesSince, listCollection, type Space } from '../../dav/listing';
import { SpaceProblem, type SpaceProblemKind } from '../../dav/problem';
import type { Account } from '../../store/access/accounts';
import type { Database, Queryable } from '../../store/database';
import { tell } from '../../store/events';
import { finishJob, giveWay, isAwaited, type Job } from '../../store/jobs';
import {
  FilesDigest,
  type FolderToList,
  foldersToList,
  type Member,
  noteChanged,
  noteFigures,
  removePaths,
  startListing,
} from '../../store/space/listing';
import { type FileSpace, spaceById, updateSpace } from '../../store/space/spaces';
import { trashOf } from '../../store/space/trash';
import type { Turn, WorkContext } from '../context';
import { type Fence, fenceOf } from '../fence';
import { FolderWriter } from './folder-writer';
import { memberOf } from './member';
import { openSpace } from './sign-in';

/** Folders that are read at a time. */
const AT_A_TIME = 4;
/** Folders that are taken out of the table at a time, to be read. */
const TAKEN = 256;
/** Members of a folder that are held to find out whether its files are as they were. */
const MOST_HELD = 20_000;
/** Members of one folder that are taken together. */
const MOST_AT_A_TIME = 1_000;
/** Between two looks at how far it is, in milliseconds. */
const LOOK_MS = 2_000;
/** Folders in each other; nobody keeps files so deep, and a server may tell of folders without end. */
const MOST_DEEP = 100;
/** Files and folders of one file space. */
const MOST_MEMBERS = 5_000_000;
/** Changes that are taken at a time: more are told as fast folder by folder. */
const MOST_CHANGES = 20_000;
/** Answers after which changes can't be had, and all is listed. */
const NO_CHANGES = new Set<SpaceProblemKind>([
  ...(['forbidden', 'gone', 'changed', 'command-refused', 'not-dav', 'no-room', 'unreadable-answer'] as const),
]);

/**
 * Finds out what lies in a file space: only what changed where the server can tell that, else folder by folder. What is in the tables
 * is what is to be read, so that a listing that was killed goes on where it was. Memory holds some folders at a time, and of each the
 * numbers of its files.
 */
export async function listSpace(
  context: WorkContext,
  job: Job,
  account: Account,
  turn: Turn,
  watch: Watch,
): Promise<void> {
  const { database, worker } = context;
  const space = await spaceById(database, account.id, job.subject);
  if (!space) return finishJob(database, job);
  const client = await openSpace(context, account, space, watch);
  try {
    const fenced = fenceOf(context, job, { bySets: true });
    const isOtherAwaited = () => isAwaited(database, account.id);
    const listing = new SpaceListing(database, client, fenced, account.id, space, turn, isOtherAwaited);
    if (await listing.read()) await listing.end((db) => finishJob(db, job));
    else await giveWay(database, job, worker);
  } finally {
    client.close();
  }
}

class SpaceListing {
  /** Folders that are to be read, and those that are being read. */
  private readonly waiting: FolderToList[] = [];
  private readonly beingRead = new Map<number, Promise<void>>();
  private number: number;
  private members = 0;
  private lookedAt = Date.now();
  private principal: string | undefined;
  private readonly writer: FolderWriter;
  private failure: { error: unknown } | undefined;

  constructor(
    database: Database,
    private readonly client: DavClient,
    private readonly fenced: Fence,
    private readonly account: number,
    private readonly space: FileSpace,
    turn: Turn,
    private readonly isOtherAwaited: () => Promise<boolean>,
  ) {
    this.number = space.listing;
    this.writer = new FolderWriter(database, fenced, account, space, turn, () => this.number);
  }

  /** @returns false where it gives way to what somebody waits for. */
  async read(): Promise<boolean> {
    const { space } = this;
    const asked = await this.ask();
    // One that was killed is in the middle of a listing.
    if (space.listingState === 'running') return this.readFolders();
    if (space.syncToken !== null && asked.syncToken !== undefined && (await this.readChanges(space.syncToken)))
      return this.readFolders();
    await this.fenced(async (db) => {
      this.number = await startListing(db, this.account, space.id);
      // What changes while the folders are read is asked for the next time.
      await updateSpace(db, this.account, space.id, { syncToken: asked.syncToken ?? null });
    });
    return this.readFolders();
  }

  /** Asks for the quota once more, since it may have changed meanwhile, and says that it is done. */
  async end(finish: (db: Queryable) => Promise<void>): Promise<void> {
    await this.ask();
    await this.fenced(async (db) => {
      const trash = await trashOf(db, this.account, this.space);
      if (trash !== null) await updateSpace(db, this.account, this.space.id, { trash });
      await noteFigures(db, this.account, this.space.id);
      await updateSpace(db, this.account, this.space.id, {
        ...{ listingState: 'done', attempts: 0, problem: null, listedAt: new Date() },
      });
      await finish(db);
      await this.tell(db);
      await tell(db, this.account, 'level', {});
    });
  }

  private async ask(): Promise<Space> {
    const asked = await askSpace(this.client, this.space.root);
    this.principal = asked.principal;
    await this.fenced((db) =>
      updateSpace(db, this.account, this.space.id, {
        ...{ quotaUsed: asked.quotaUsed ?? null, quotaAvailable: asked.quotaAvailable ?? null, askedAt: new Date() },
      }),
    );
    return asked;
  }

  /** Takes what changed. @returns false where the server can't tell it any more. */
  private async readChanges(since: string): Promise<boolean> {
    let from = since;
    for (;;) {
      const next = await this.changesFrom(from);
      if (next === undefined) return false;
      if (!next.hasMore || next.syncToken === from) return true;
      from = next.syncToken;
    }
  }

  private async changesFrom(since: string): Promise<Extract<Change, { syncToken: string }> | undefined> {
    const { account, space } = this;
    const changes = await this.changesTold(since);
    if (!changes) return undefined;
    const { gone, there, end } = changes;
    const isTaken = await this.fenced(async (db) => {
      await removePaths(db, account, space.id, gone);
      if (!(await noteChanged(db, account, space.id, this.number, there))) return false;
      await updateSpace(db, account, space.id, { syncToken: end.syncToken, listingState: 'running' });
      return true;
    });
    return isTaken ? end : undefined;
  }

  /** Undefined where the server tells no changes since then, or too many. */
  private async changesTold(since: string) {
    const gone: string[] = [];
    const there = new Map<string, Member>();
    try {
      for await (const change of changesSince(this.client, this.space.root, since)) {
        if ('syncToken' in change) return { gone, there: [...there.values()], end: change };
        if ('gone' in change) gone.push(...bothSpellings(change.gone));
        else there.set(change.resource.path, memberOf(change.resource, false, this.principal));
        if (there.size + gone.length > MOST_CHANGES) return undefined;
      }
    } catch (error) {
      if (!(error instanceof SpaceProblem && NO_CHANGES.has(error.kind))) throw error;
    }
    return undefined;
  }

  /** Reads folders, several at a time, until none is left. @returns false where it gives way. */
  private async readFolders(): Promise<boolean> {
    for (;;) {
      if (this.failure) {
        await Promise.all(this.beingRead.values());
        throw this.failure.error;
      }
      if (await this.look()) {
        await Promise.all(this.beingRead.values());
        await this.writer.flush();
        if (this.failure) continue;
        return false;
      }
      if (this.waiting.length === 0) await this.takeMore();
      while (this.beingRead.size < AT_A_TIME && this.waiting.length > 0) this.begin(this.waiting.pop() as FolderToList);
      if (this.beingRead.size > 0) await Promise.race(this.beingRead.values());
      // What is to be read further may lie in what was read and is not written down yet.
      else if (this.writer.isIdle) return true;
      else await this.writer.flush();
    }
  }

  private async takeMore(): Promise<void> {
    const but = [...this.beingRead.keys(), ...this.writer.unwritten];
    const found = await this.fenced((db) => foldersToList(db, this.account, this.space.id, this.number, TAKEN, but));
    // Those that were found last are read first.
    this.waiting.push(...found.reverse());
  }

  private begin(folder: FolderToList): void {
    const reading = this.readFolder(folder).catch((error: unknown) => {
      this.failure ??= { error };
    });
    this.beingRead.set(
      folder.id,
      reading.finally(() => this.beingRead.delete(folder.id)),
    );
  }

  private async readFolder(folder: FolderToList): Promise<void> {
    let members = new Map<string, Member>();
    const digest = new FilesDigest();
    // Where it may be as it was, its files are held until all have come.
    let most = folder.digest ? MOST_HELD : MOST_AT_A_TIME;
    const taken = () => {
      const part = { folder, members: [...members.values()] };
      members = new Map();
      this.members += part.members.length;
      if (this.members > MOST_MEMBERS) throw tooMany();
      return part;
    };
    try {
      for await (const resource of listCollection(this.client, folder.path, this.principal !== undefined)) {
        if (resource.isCollection && folder.depth >= MOST_DEEP) throw tooMany();
        const member = memberOf(resource, folder.shared, this.principal);
        if (!member.isCollection) digest.add(member);
        members.set(member.path, member);
        if (members.size < most) continue;
        most = MOST_AT_A_TIME;
        await this.writer.take({ ...taken(), end: null });
        await this.look();
      }
    } catch (error) {
      // It went since its parent was read. The uppermost folder is what the file space is.
      const isGone = error instanceof SpaceProblem && error.kind === 'gone' && folder.path !== this.space.root;
      if (!isGone) throw error;
      return this.writer.take({ folder, members: [], end: 'gone' });
    }
    const { value } = digest;
    const isUnchanged = most === MOST_HELD && folder.digest?.equals(value) === true;
    const part = taken();
    await this.writer.take({
      folder,
      members: isUnchanged ? part.members.filter(({ isCollection }) => isCollection) : part.members,
      end: { digest: value, isUnchanged },
    });
  }

  /** Says now and then how far it is. @returns whether somebody waits for something else. */
  private async look(): Promise<boolean> {
    if (Date.now() - this.lookedAt < LOOK_MS) return false;
    this.lookedAt = Date.now();
    await this.fenced(async (db) => {
      await noteFigures(db, this.account, this.space.id);
      await this.tell(db);
    });
    return this.isOtherAwaited();
  }

  private async tell(db: Queryable): Promise<void> {
    await tell(db, this.account, 'space', { id: this.space.id });
  }
}

/** A folder that is gone may be told with its slash or without. */
function bothSpellings(path: string): string[] {
  return [path.replace(/\/$/, ''), asCollection(path)];
}

function tooMany(): SpaceProblem {
  return new SpaceProblem(
    'too-many',
    'The server tells of more files and folders than Tamsel keeps, or of folders in each other without end.',
  );
}
