import type { MessageRecord } from '../../core/mailbox/record';
import { chunksOf, countOf, missingFrom, numbersOf, type Ranges } from '../../core/sets/ranges';
import { MailProblem } from '../../mail/problem';
import type { FlagsRecord, FolderStatus, ListedFolder, MailServer, OpenFolder } from '../../mail/server';
import type { Account } from '../../store/accounts';
import { categorise, readMissingSigns, selfOf } from '../../store/categories';
import { refreshStatistics, transaction } from '../../store/database';
import { findSoleDocuments, hasUnseenDocuments } from '../../store/documents';
import { tell } from '../../store/events';
import {
  foldersOf,
  type Generation,
  generationFor,
  generationsOf,
  type StoredFolder,
  saveSeen,
} from '../../store/folders';
import { applyGuards, readGuarded } from '../../store/guards';
import { holdLease, type Job } from '../../store/jobs';
import { hasLots } from '../../store/lots';
import { countPlacements, insertBatch, type Place, tombstone, uidsOf, updateFlags } from '../../store/placements';
import { updateScan } from '../../store/scans';
import { hasLooseMessages, joinThreads } from '../../store/threads';
import type { WorkContext } from '../context';
import { readLevel } from '../listing';

/** Messages whose metadata is fetched and written together: a batch is what a kill can cost. */
const BATCH = 500;
const FLAGS_BATCH = 5_000;
/** Rounds after which a folder that never stands still is left as it is then; the next scan goes on. */
const MOST_ROUNDS = 8;
const PROGRESS_MS = 400;

/**
 * Makes the index equal to the server: compares the UIDs of each folder that changed with ours, so a scan that was
 * killed goes on where it was, and one with nothing changed costs the listing alone.
 */
export async function scan(context: WorkContext, job: Job, account: Account, server: MailServer): Promise<void> {
  await new Scanner(context, job, account, server).run();
}

/** A folder of the server beside ours. */
interface Pair {
  listed: ListedFolder;
  status: FolderStatus;
  folder: StoredFolder;
  generation: Generation | undefined;
}

class Scanner {
  private readonly folders = { done: 0, total: 0 };
  private readonly messages = { done: 0, total: 0 };
  private toldAt = 0;
  /** Whether anything came in or went. */
  private touched = false;

  constructor(
    private readonly context: WorkContext,
    private readonly job: Job,
    private readonly account: Account,
    private readonly server: MailServer,
  ) {}

  async run(): Promise<void> {
    for (let round = 0; round < MOST_ROUNDS; round++) {
      const listed = await readLevel(this.context.database, this.account.id, this.server);
      const changed = await this.changed(listed, round === 0);
      if (round === 0) await this.plan(changed);
      if (changed.length === 0) break;
      for (const pair of changed) {
        await this.syncFolder(pair);
        if (round === 0) this.folders.done++;
        await this.progress();
      }
    }
    await this.settle();
    this.messages.done = this.messages.total;
    this.folders.done = this.folders.total;
    await this.write('done');
  }

  /** Tells what needs the whole mailbox to be told: threads, and categories by whom the user wrote to. */
  private async settle(): Promise<void> {
    let unread: number;
    do unread = await this.fenced((client) => readMissingSigns(client, this.account));
    while (unread > 0);
    // A scan that was killed after its last message finds nothing changed, and has still to be settled.
    const { database } = this.context;
    const unsettled =
      this.touched ||
      (await hasLooseMessages(database, this.account.id)) ||
      (await hasUnseenDocuments(database, this.account.id));
    if (!unsettled) return;
    await refreshStatistics(database);
    await this.fenced(async (client) => {
      await joinThreads(client, this.account.id);
      await categorise(client, this.account);
      await findSoleDocuments(client, this.account);
      if (await hasLots(client, this.account.id))
        await applyGuards(client, this.account, await readGuarded(client, this.account, new Date()));
      await tell(client, this.account.id, 'index', {});
    });
  }

  /** The folders in which something may have changed, those with the most octets first. */
  private async changed(listed: readonly ListedFolder[], first: boolean): Promise<Pair[]> {
    const { database } = this.context;
    const byName = new Map((await foldersOf(database, this.account.id)).map((folder) => [folder.serverName, folder]));
    const generations = await generationsOf(database, this.account.id);
    const pairs: Pair[] = [];
    for (const entry of listed) {
      const folder = byName.get(entry.serverName);
      if (!folder || !entry.status || entry.repeats) continue;
      const pair = { listed: entry, status: entry.status, folder, generation: generations.get(folder.id) };
      if (!this.standsStill(pair, first)) pairs.push(pair);
    }
    const weight = ({ status }: Pair) => status.bytes ?? status.messages;
    return pairs.sort((a, b) => weight(b) - weight(a));
  }

  /**
   * Whether STATUS says what it said when the folder was last equal to ours. Without mod-sequences flags may have
   * changed all the same, so the first round looks into every folder then.
   */
  private standsStill({ status, generation }: Pair, first: boolean): boolean {
    if (!generation || generation.uidValidity !== status.uidValidity) return false;
    if (generation.seenMessages !== status.messages || generation.seenUidNext !== status.uidNext) return false;
    return status.modSeq === null ? !first || status.messages === 0 : generation.seenModSeq === status.modSeq;
  }

  private async plan(changed: readonly Pair[]): Promise<void> {
    this.folders.total = changed.length;
    for (const { status, generation } of changed) {
      const have =
        generation?.uidValidity === status.uidValidity
          ? await countPlacements(this.context.database, this.account.id, generation.id)
          : 0;
      this.messages.total += Math.max(0, status.messages - have);
    }
    await this.write('running');
  }

  private async syncFolder({ listed, folder }: Pair): Promise<void> {
    const { database } = this.context;
    const open = await this.opened(listed.serverName);
    if (!open) return;
    const generation = await this.fenced((client) =>
      generationFor(client, this.account.id, folder.id, open.uidValidity),
    );
    const theirs = open.messages === 0 ? [] : await this.server.uids();
    const ours = await uidsOf(database, this.account.id, generation.id);
    const gone = missingFrom(ours, theirs);
    const fresh = missingFrom(theirs, ours);
    if (gone.length > 0) await this.fenced((client) => tombstone(client, this.account.id, generation.id, gone));
    if (gone.length > 0 || fresh.length > 0) this.touched = true;
    const place: Place = {
      folder: folder.id,
      generation: generation.id,
      own: folder.role === 'sent' || folder.role === 'drafts',
      self: selfOf(this.account),
    };
    for (const chunk of chunksOf(fresh, BATCH)) await this.fetchBatch(place, chunk);
    await this.syncFlags(generation, missingFrom(theirs, numbersOf(fresh)), open.modSeq);
    const messages = await countPlacements(database, this.account.id, generation.id);
    await this.fenced(async (client) => {
      await saveSeen(client, this.account.id, generation.id, { uidNext: open.uidNext, modSeq: open.modSeq, messages });
      await tell(client, this.account.id, 'index', { folder: folder.path });
    });
  }

  /** Undefined where the folder went since it was listed; the next round's listing tells. */
  private async opened(serverName: string): Promise<OpenFolder | undefined> {
    try {
      return await this.server.open(serverName);
    } catch (error) {
      if (error instanceof MailProblem && error.kind === 'folder-gone') return undefined;
      throw error;
    }
  }

  private async fetchBatch(place: Place, uids: Ranges): Promise<void> {
    const records: MessageRecord[] = [];
    for await (const record of this.server.metadata(uids)) records.push(record);
    // What can't be read in full is kept with what can: the count of messages must equal the server's.
    const unread = missingFrom(
      numbersOf(uids),
      records.map(({ uid }) => uid),
    );
    if (unread.length > 0) for await (const record of this.server.outlines(unread)) records.push(record);
    await this.fenced((client) => insertBatch(client, this.account.id, place, records));
    this.messages.done += countOf(uids);
    await this.progress();
  }

  private async syncFlags(generation: Generation, uids: Ranges, modSeq: number | null): Promise<void> {
    if (uids.length === 0) return;
    const since = modSeq === null ? null : generation.seenModSeq;
    if (since !== null && since === modSeq) return;
    for (const chunk of since === null ? chunksOf(uids, FLAGS_BATCH) : [uids]) {
      const flags: FlagsRecord[] = [];
      for await (const record of this.server.flags(chunk, since ?? undefined)) flags.push(record);
      if (flags.length > 0) await this.fenced((client) => updateFlags(client, this.account.id, generation.id, flags));
    }
  }

  /** A transaction that only the holder of the lease can close. */
  private fenced<T>(act: Parameters<typeof transaction<T>>[1]): Promise<T> {
    return transaction(this.context.database, async (client) => {
      await holdLease(client, this.job, this.context.worker);
      return act(client);
    });
  }

  private async progress(): Promise<void> {
    if (Date.now() - this.toldAt < PROGRESS_MS) return;
    this.toldAt = Date.now();
    await this.write('running');
  }

  private async write(state: 'running' | 'done'): Promise<void> {
    await this.fenced(async (client) => {
      const scan = await updateScan(client, this.account.id, this.job.subject, {
        state,
        folders: this.folders,
        messages: this.messages,
        problem: null,
      });
      await tell(client, this.account.id, 'scan', scan);
    });
  }
}
