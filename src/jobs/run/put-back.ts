import { hashOf } from '../../archive/digest';
import { trashFolders } from '../../core/mailbox/folders';
import { rangesOf } from '../../core/sets/ranges';
import { MailProblem } from '../../mail/problem';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import type { Queryable } from '../../store/database';
import { tell } from '../../store/events';
import { foldersOf, type StoredFolder, saveListing } from '../../store/index/folders';
import {
  type Candidate,
  leavePutBacks,
  notePutBacks,
  type PendingPutBack,
  pendingPutBacks,
  putBackCandidates,
} from '../../store/runs/put-backs';
import { type LeftReason, noteRefusal, type Run, runById, wantedOf } from '../../store/runs/runs';
import { batches } from '../batches';
import type { Turn, WorkContext } from '../context';
import type { Fence } from '../fence';
import { assertGone } from '../sync/folder-listing';
import { AppendJournal } from './append-journal';
import { type Appendable, Appender, type Outcomes, wholeMessage } from './appender';
import type { Destination, Destinations } from './destinations';
import type { Folders } from './folders';

/** Messages that are looked up at a time, and that are put back together. */
const PAGE = 500;
const PACK_MESSAGES = 16;
const PACK_OCTETS = 32 * 2 ** 20;

/** Puts messages of an archive into the mailbox, as they were; what is there already is not doubled. */
export class PutBack {
  private readonly appender: Appender;
  private readonly archiveOf: number;
  private folders: StoredFolder[] = [];
  /** Folders by the path that messages had, where they are put back. */
  private readonly targets = new Map<string, StoredFolder | undefined>();
  private since = Date.now();

  constructor(
    private readonly context: WorkContext,
    private readonly account: Account,
    private readonly run: Run,
    private readonly server: MailServer,
    private readonly opener: Folders,
    private readonly destinations: Destinations,
    private readonly fenced: Fence,
    private readonly turn: Turn,
  ) {
    this.archiveOf = run.archiveOf ?? account.id;
    this.appender = new Appender(server, new AppendJournal('run_put_back', account.id, run.id, fenced));
  }

  /** @returns how it ends; what is left for another reason than that somebody wants it to stop has that reason by then. */
  async work(): Promise<'done' | 'paused' | 'cancelled'> {
    const { database } = this.context;
    this.folders = await foldersOf(database, this.account.id);
    for (;;) {
      const pending = await pendingPutBacks(database, this.account.id, this.run.id, PAGE);
      if (pending.length === 0) return 'done';
      for (const group of byFolder(pending))
        for await (const pack of batches(group, PACK_MESSAGES, PACK_OCTETS)) {
          const wanted = await wantedOf(database, this.account.id, this.run.id);
          if (wanted === 'pause') return 'paused';
          if (wanted === 'cancel') {
            await this.leaveRest();
            return 'cancelled';
          }
          await this.putBack(pack);
        }
    }
  }

  private async leaveRest(): Promise<void> {
    const { database } = this.context;
    for (;;) {
      const rest = await pendingPutBacks(database, this.account.id, this.run.id, PAGE);
      if (rest.length === 0) return;
      await this.leave(new Map(rest.map(({ id }) => [id, 'cancelled'])));
    }
  }

  /** Puts messages back that were in one folder. */
  private async putBack(pack: readonly PendingPutBack[]): Promise<void> {
    const outcomes: Outcomes = new Map();
    const { folder } = pack[0] as PendingPutBack;
    let destination = await this.destinationOf(folder);
    let reason = destination ? await this.opener.open(destination.generation) : 'folder-gone';
    if (destination && (reason === 'changed' || reason === 'folder-gone')) {
      // It changed in mid-run, or was deleted: once more, from what is there now.
      this.targets.delete(folder);
      this.destinations.forget(destination.folder.id);
      destination = await this.destinationOf(folder);
      reason = destination ? await this.opener.open(destination.generation) : 'folder-gone';
    }
    if (!destination || reason) for (const { id } of pack) outcomes.set(id, reason ?? 'folder-gone');
    else await this.putInto(destination, pack, outcomes);
    await this.leave(outcomes);
  }

  private async putInto(destination: Destination, pack: readonly PendingPutBack[], outcomes: Outcomes): Promise<void> {
    const { generation } = destination;
    const fresh: PendingPutBack[] = [];
    for (const message of pack)
      if (message.begun && (await this.appender.stands(message.id, generation, message.begun)))
        outcomes.set(message.id, 'stands');
      else fresh.push(message);
    const there = await this.alreadyThere(fresh);
    const messages: Appendable[] = [];
    for (const message of fresh) {
      if (there.has(message.id)) outcomes.set(message.id, 'there');
      else if (await this.isAsSaved(message)) messages.push({ ...message, read: () => this.octetsOf(message) });
      else outcomes.set(message.id, 'damaged');
    }
    const reason = await this.opener.open(generation);
    if (reason) for (const { id } of messages) outcomes.set(id, reason === 'changed' ? 'folder-gone' : reason);
    else await this.appender.append(generation, messages, outcomes);
  }

  /** Which of some messages lie in the mailbox, octet for octet, outside the trash. */
  private async alreadyThere(messages: readonly PendingPutBack[]): Promise<Set<number>> {
    const trash = new Set(trashFolders(this.folders, this.account.settings.trashFolder).map(({ id }) => id));
    const folders = this.folders.filter(({ id, repeats }) => !repeats && !trash.has(id)).map(({ id }) => id);
    const ids = messages.map(({ id }) => id);
    const candidates = await putBackCandidates(this.context.database, this.account.id, this.archiveOf, ids, folders);
    const sums = new Map(messages.map(({ id, sha256 }) => [id, sha256]));
    const there = new Set<number>();
    for (const candidate of candidates)
      if (!there.has(candidate.archived) && (await this.sumOf(candidate)) === sums.get(candidate.archived))
        there.add(candidate.archived);
    return there;
  }

  /** The SHA-256 of a message of the mailbox; undefined where it can't be read. */
  private async sumOf({ generation, uid, size }: Candidate): Promise<string | undefined> {
    const reason = await this.opener.open(generation);
    if (reason && reason !== 'read-only') return undefined;
    try {
      return await hashOf(this.server.download(wholeMessage(uid, size)));
    } catch (error) {
      if (error instanceof MailProblem && GONE.has(error.kind)) return undefined;
      throw error;
    }
  }

  private async isAsSaved(message: PendingPutBack): Promise<boolean> {
    const octets = await this.context.archive.bag(this.archiveOf, message.bag).message(message);
    return octets !== undefined && (await hashOf(octets)) === message.sha256;
  }

  private async *octetsOf(message: PendingPutBack): AsyncGenerator<Uint8Array> {
    const octets = await this.context.archive.bag(this.archiveOf, message.bag).message(message);
    if (octets) yield* octets;
  }

  /** Where messages go that were in a folder: where the run says, else there; it is made again where it is gone. */
  private async destinationOf(path: string): Promise<Destination | undefined> {
    if (!this.targets.has(path)) {
      const found = await this.targetOf(path);
      // What came into it since the last scan may be the same.
      if (found) await this.opener.follow((await this.destinations.get(found.id)).generation);
      this.targets.set(path, found);
    }
    const target = this.targets.get(path);
    return target && this.destinations.get(target.id);
  }

  private async targetOf(path: string): Promise<StoredFolder | undefined> {
    const { fallback } = this.run;
    if (fallback !== null) return this.folders.find(({ id }) => id === fallback);
    const trash = new Set(trashFolders(this.folders, this.account.settings.trashFolder).map(({ id }) => id));
    const named = this.folders.find((folder) => folder.path === path);
    // What is put back is not to be dropped by the server after a while, nor to stand in a view.
    if (named && !trash.has(named.id) && !named.repeats && named.selectable) return named;
    if (named) return this.folders.find(({ role }) => role === 'inbox');
    return this.made(path);
  }

  private async made(path: string): Promise<StoredFolder | undefined> {
    const { server, account } = this;
    const { database } = this.context;
    const delimiter = this.folders.find((folder) => folder.delimiter !== null)?.delimiter ?? '/';
    try {
      // Paths leave out how the names of all of the user's own folders begin (RFC 2342).
      const name = `${server.personalPrefix}${path.split('/').join(delimiter)}`;
      await server.createFolder(server.serverNameOf(name));
    } catch (error) {
      // It may be there since the last look.
      if (!(error instanceof MailProblem) || error.kind !== 'command-refused') throw error;
    }
    const listed = await server.folders();
    await assertGone(database, account.id, server, listed);
    await this.fenced((client) => saveListing(client, account.id, listed));
    this.folders = await foldersOf(database, account.id);
    const made = this.folders.find((folder) => folder.path === path && !folder.repeats && folder.selectable);
    // It is not in the listing that others were found by.
    if (made) this.destinations.forget(made.id);
    return made;
  }

  /** Writes down what became of messages. */
  private async leave(outcomes: Outcomes): Promise<void> {
    const left = new Map<LeftReason, number[]>();
    for (const [id, outcome] of outcomes)
      if (outcome !== 'stands') left.set(outcome, [...(left.get(outcome) ?? []), id]);
    const worked = Date.now() - this.since;
    this.since = Date.now();
    await this.fenced(async (client) => {
      for (const [reason, ids] of left)
        await leavePutBacks(client, this.account.id, this.run.id, reason, rangesOf(ids));
      if (left.has('no-room')) await noteRefusal(client, this.account.id, this.run.id, NO_ROOM);
      await notePutBacks(client, this.account.id, this.run.id, worked);
      await this.turn.progressed(client);
      await this.announce(client);
    });
  }

  private async announce(client: Queryable): Promise<void> {
    await tell(client, this.account.id, 'run', await runById(client, this.account.id, this.run.id));
  }
}

const GONE = new Set<MailProblem['kind']>(['message-gone', 'command-refused']);
const NO_ROOM = { kind: 'no-room', message: 'The mailbox has no room for messages that are to be put back.' };

/** Messages in the order given, those of a folder together. */
function byFolder(messages: readonly PendingPutBack[]): PendingPutBack[][] {
  const groups = new Map<string, PendingPutBack[]>();
  for (const message of messages) {
    const group = groups.get(message.folder);
    if (group) group.push(message);
    else groups.set(message.folder, [message]);
  }
  return [...groups.values()];
}
