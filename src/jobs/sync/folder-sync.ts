import { trashFolders } from '../../core/mailbox/folders';
import type { MessageRecord } from '../../core/mailbox/record';
import { chunksOf, countOf, difference, intersection, type Ranges, rangesOf, union } from '../../core/sets/ranges';
import { MailProblem } from '../../mail/problem';
import type { FlagsRecord, FolderChanges, MailServer, OpenFolder } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { tell } from '../../store/events';
import type { Place } from '../../store/index/arrivals';
import { selfOf } from '../../store/index/categories';
import {
  foldersOf,
  type Generation,
  generationFor,
  generationsFor,
  hasUnfollowed,
  type StoredFolder,
  saveSeen,
  seenBefore,
} from '../../store/index/folders';
import { relinkAfterUidValidityChange } from '../../store/index/moves';
import {
  countPlacements,
  countsByGeneration,
  savePlacedAt,
  tombstone,
  uidsOf,
  undatedUids,
  updateFlags,
} from '../../store/index/placements';
import type { Job } from '../../store/jobs';
import type { WorkContext } from '../context';
import { type Fence, fenceOf } from '../fence';
import { Details, type Gatherer } from './details';

const FLAGS_BATCH = 5_000;

/** A folder of the server beside ours. */
export interface ComparedFolder {
  folder: StoredFolder;
  generation: Generation;
  /** As it was when it was compared. */
  open: OpenFolder;
  place: Place;
  /** UIDs of the server that are not in the index. */
  fresh: Ranges;
}

/** Makes folders of the index equal to the server's. */
export class FolderSync {
  /** Whether anything came in or went. */
  touched = false;
  private readonly details: Details;
  private readonly fenced: Fence;
  /** The folders that are the trash, as they were last listed. */
  private trash: Promise<ReadonlySet<number>> | undefined;

  /** @param onFetched is called with the number of messages that were read. */
  constructor(
    private readonly context: WorkContext,
    job: Job,
    private readonly account: Account,
    private readonly server: MailServer,
    onFetched: (messages: number) => Promise<void> = async () => {},
  ) {
    this.fenced = fenceOf(context, job, { bySets: true });
    this.details = new Details(account, this.fenced, onFetched);
  }

  /** Makes one folder equal. Undefined where it went meanwhile. */
  async sync(folder: StoredFolder): Promise<Generation | undefined> {
    const open = await this.opened(folder.serverName);
    if (!open) return undefined;
    const compared = await this.compare(this.server, folder, open);
    if (compared.fresh.length > 0) await this.fetch(this.server, { ...compared, uids: compared.fresh });
    if (await this.isTrash(folder)) await this.readPlacedAt(this.server, compared);
    await this.finish([compared]);
    return compared.generation;
  }

  /** Compares UIDs with ours, so what was killed goes on where it was, and brings up to date what both have. */
  async compare(
    server: MailServer,
    folder: StoredFolder,
    open: OpenFolder,
    known?: Generation | undefined,
  ): Promise<ComparedFolder> {
    const generation =
      known?.uidValidity === open.uidValidity
        ? known
        : await this.fenced((client) => generationFor(client, this.account.id, folder.id, open.uidValidity));
    const changes = await this.applyChanges(server, generation, open);
    const fresh = changes?.addsUp
      ? changes.fresh
      : await this.compareWhole(server, generation, open, changes === undefined);
    if (fresh.length > 0) this.touched = true;
    return { folder, generation, open, place: this.placeOf(folder, generation), fresh };
  }

  private placeOf(folder: StoredFolder, generation: Generation): Place {
    return {
      folder: folder.id,
      generation: generation.id,
      own: folder.role === 'sent' || folder.role === 'drafts',
      self: selfOf(this.account),
    };
  }

  /** Makes generations of folders that were never read. */
  async begin(folders: readonly { folder: StoredFolder; uidValidity: number }[]): Promise<Generation[]> {
    const wanted = folders.map(({ folder, uidValidity }) => ({ folder: folder.id, uidValidity }));
    return this.fenced((client) => generationsFor(client, this.account.id, wanted));
  }

  /** Gathers the messages of small folders that were never read. */
  gatherer(): Gatherer {
    return this.details.gatherer();
  }

  /** A folder that was read as a whole, at once. */
  readWhole(
    folder: StoredFolder,
    generation: Generation,
    { open, records }: { open: OpenFolder; records: readonly MessageRecord[] },
  ): ComparedFolder {
    this.touched = true;
    const fresh = rangesOf(records.map(({ uid }) => uid));
    return { folder, generation, open, place: this.placeOf(folder, generation), fresh };
  }

  /**
   * By what the server says of what changed (RFC 7162), which takes no list of UIDs; undefined where it can't say. Where it
   * tells no expunged messages, it adds up as long as there are none.
   */
  private async applyChanges(
    server: MailServer,
    generation: Generation,
    open: OpenFolder,
  ): Promise<{ fresh: Ranges; addsUp: boolean } | undefined> {
    const { seenModSeq } = generation;
    if (seenModSeq === null || open.modSeq === null) return undefined;
    const { database } = this.context;
    const changes: FolderChanges | undefined =
      seenModSeq === open.modSeq ? { vanished: [], changed: [] } : await server.changes(seenModSeq);
    if (!changes) return undefined;
    const changed = rangesOf(changes.changed.map(({ uid }) => uid));
    const fresh =
      changed.length > 0
        ? difference(changed, await uidsOf(database, this.account.id, generation.id, changed))
        : changed;
    if (changes.vanished.length > 0) {
      const ours = await uidsOf(database, this.account.id, generation.id);
      const gone = intersection(ours, changes.vanished);
      // That much is not believed of one answer: all UIDs are asked for.
      if (isMuch(gone, ours)) return { fresh, addsUp: false };
      await this.lose(generation, gone);
    }
    await this.saveFlags(generation, changes.changed);
    const ours = await countPlacements(database, this.account.id, generation.id);
    return { fresh, addsUp: ours + countOf(fresh) === open.messages };
  }

  private async compareWhole(
    server: MailServer,
    generation: Generation,
    open: OpenFolder,
    withFlags: boolean,
  ): Promise<Ranges> {
    const theirs = open.messages === 0 ? [] : await server.uids();
    const ours = await uidsOf(this.context.database, this.account.id, generation.id);
    const gone = difference(ours, theirs);
    // Under a new UIDVALIDITY none are ours yet, and as many are expected as there were under the old one.
    const isFew =
      ours.length === 0 && countOf(theirs) * 2 < (await seenBefore(this.context.database, this.account.id, generation));
    if (isFew || isMuch(gone, ours)) await this.askAgain(server, theirs, open);
    if (gone.length > 0) await this.lose(generation, gone);
    const both = withFlags ? intersection(theirs, ours) : [];
    for (const chunk of chunksOf(both, FLAGS_BATCH))
      for await (const flags of server.flags(chunk)) await this.saveFlags(generation, flags);
    return difference(theirs, ours);
  }

  /**
   * Has the server tell its messages in another way, before much of what was known is taken for gone. What came in or went
   * between both answers is beyond what was there when the folder was opened, or missing from the second.
   */
  private async askAgain(server: MailServer, theirs: Ranges, open: OpenFolder): Promise<void> {
    const again = await server.uidsOneByOne();
    const untold = difference(again, theirs).filter(([first]) => first < open.uidNext);
    if (untold.length === 0) return;
    throw new MailProblem(
      'unreadable-answer',
      'The server’s answers contradict each other: one says that most messages of a folder are gone, another that they exist. Tamsel removed nothing from its index.',
    );
  }

  private async lose(generation: Generation, uids: Ranges): Promise<void> {
    if ((await this.fenced((client) => tombstone(client, this.account.id, generation.id, uids))) > 0)
      this.touched = true;
  }

  private async saveFlags(generation: Generation, flags: readonly FlagsRecord[]): Promise<void> {
    if (flags.length > 0) await this.fenced((client) => updateFlags(client, this.account.id, generation.id, flags));
  }

  /** Reads and writes messages of the folder that the server has open; what could not be written is left of `uids`. */
  fetch(server: MailServer, task: { place: Place; uids: Ranges }): Promise<void> {
    return this.details.read(server, task);
  }

  /** Settles what needs all messages of folders in the index. */
  async finish(compared: readonly ComparedFolder[]): Promise<void> {
    const { database } = this.context;
    const counts = await countsByGeneration(
      database,
      this.account.id,
      compared.map(({ generation }) => generation.id),
    );
    await this.fenced(async (client) => {
      const following = (await hasUnfollowed(client, this.account.id)) ? compared : [];
      for (const { folder, generation, open } of following) {
        const to = { folder: folder.id, generation: generation.id, uidValidity: open.uidValidity };
        if ((await relinkAfterUidValidityChange(client, this.account.id, to)) > 0) this.touched = true;
      }
      await saveSeen(
        client,
        this.account.id,
        compared.map(({ generation, open }) => ({
          generation: generation.id,
          uidNext: open.uidNext,
          modSeq: open.modSeq,
          messages: counts.get(generation.id) ?? 0,
        })),
      );
      const [only] = compared.length === 1 ? compared : [];
      await tell(client, this.account.id, 'index', only ? { folder: only.folder.path } : {});
    });
  }

  /** Whether a folder is the trash or lies below it. */
  async isTrash(folder: StoredFolder): Promise<boolean> {
    this.trash ??= this.readTrash();
    return (await this.trash).has(folder.id);
  }

  /** Has the folders looked at again: they were listed anew. */
  forgetTrash(): void {
    this.trash = undefined;
  }

  private async readTrash(): Promise<ReadonlySet<number>> {
    const folders = await foldersOf(this.context.database, this.account.id);
    return new Set(trashFolders(folders, this.account.settings.trashFolder).map(({ id }) => id));
  }

  /** When messages came into the trash: as the server says, else, of what came since the last look, by now at the latest. */
  async readPlacedAt(server: MailServer, { generation, fresh }: ComparedFolder): Promise<void> {
    // Those that a worker wrote which died before it asked.
    const undated = difference(await undatedUids(this.context.database, this.account.id, generation.id), fresh);
    const asked = union([fresh, undated]);
    if (asked.length === 0) return;
    const said = await server.savedAt(asked);
    const now = generation.seenMessages === null ? null : new Date();
    await this.fenced(async (client) => {
      await savePlacedAt(client, this.account.id, generation.id, fresh, said, now);
      // Of those that the server does not date nobody knows whether they came since the last look.
      const dated = intersection(undated, rangesOf([...said.keys()]));
      if (dated.length > 0) await savePlacedAt(client, this.account.id, generation.id, dated, said, null);
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
}

/** Whether more than half of what was known is gone at once. */
function isMuch(gone: Ranges, known: Ranges): boolean {
  return countOf(gone) * 2 > countOf(known);
}
