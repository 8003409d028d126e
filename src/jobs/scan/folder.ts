import { FLAGS, type Flag } from '../../core/mailbox/flags';
import type { MessageRecord } from '../../core/mailbox/record';
import { chunksOf, countOf, missingFrom, numbersOf, type Ranges, rangesOf } from '../../core/sets/ranges';
import { MailProblem } from '../../mail/problem';
import type { FlagsRecord, MailServer, OpenFolder } from '../../mail/server';
import type { Account } from '../../store/accounts';
import { selfOf } from '../../store/categories';
import { type Queryable, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { type Generation, generationFor, type StoredFolder, saveSeen } from '../../store/folders';
import { holdLease, type Job } from '../../store/jobs';
import { succeed } from '../../store/moves';
import {
  countPlacements,
  insertBatch,
  type Place,
  savePlacedAt,
  tombstone,
  uidsOf,
  updateFlags,
  updateSystemFlags,
} from '../../store/placements';
import type { WorkContext } from '../context';

/** Messages whose metadata is fetched and written together: a batch is what a kill can cost. */
const BATCH = 500;
const FLAGS_BATCH = 5_000;

/** Makes one folder of the index equal to the server's. */
export class FolderSync {
  /** Whether anything came in or went. */
  touched = false;

  /** @param fetched told how many messages were read. */
  constructor(
    private readonly context: WorkContext,
    private readonly job: Job,
    private readonly account: Account,
    private readonly server: MailServer,
    private readonly fetched: (messages: number) => Promise<void> = async () => {},
  ) {}

  /** Compares UIDs with ours, so what was killed goes on where it was. Undefined where the folder went meanwhile. */
  async sync(folder: StoredFolder): Promise<Generation | undefined> {
    const { database } = this.context;
    const open = await this.opened(folder.serverName);
    if (!open) return undefined;
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
    if (folder.role === 'trash' || folder.path === this.account.settings.trashFolder)
      await this.readPlacedAt(generation, fresh);
    const messages = await countPlacements(database, this.account.id, generation.id);
    await this.fenced(async (client) => {
      const to = { folder: folder.id, generation: generation.id, uidValidity: open.uidValidity };
      if ((await succeed(client, this.account.id, to)) > 0) this.touched = true;
      await saveSeen(client, this.account.id, generation.id, { uidNext: open.uidNext, modSeq: open.modSeq, messages });
      await tell(client, this.account.id, 'index', { folder: folder.path });
    });
    return generation;
  }

  /** When messages came into the trash: as the server says, else, of what came since the last look, by now at the latest. */
  private async readPlacedAt(generation: Generation, fresh: Ranges): Promise<void> {
    if (fresh.length === 0) return;
    const said = await this.server.savedAt(fresh);
    const now = generation.seenMessages === null ? null : new Date();
    await this.fenced((client) => savePlacedAt(client, this.account.id, generation.id, fresh, said, now));
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
    await this.fetched(countOf(uids));
  }

  /**
   * Has the index know which system flags these messages of the open folder bear, so that guards see them as they are: a
   * search each, whose answers are short, instead of a line a message.
   */
  async syncSystemFlags(generation: number, uids: Ranges): Promise<void> {
    const bearing: Partial<Record<Flag, Ranges>> = {};
    for (const flag of FLAGS) bearing[flag] = rangesOf(await this.server.find([flag.toUpperCase()]));
    await this.fenced((client) => updateSystemFlags(client, this.account.id, generation, uids, bearing));
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

  private fenced<T>(act: (client: Queryable) => Promise<T>): Promise<T> {
    return transaction(this.context.database, async (client) => {
      await holdLease(client, this.job, this.context.worker);
      return act(client);
    });
  }
}
