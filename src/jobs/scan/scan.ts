import { chunksOf, difference, type Ranges } from '../../core/sets/ranges';
import type { MailServer, OpenFolder } from '../../mail/server';
import { type Account, isUnsettled, takeUnsettled } from '../../store/accounts';
import type { Place } from '../../store/arrivals';
import { categorise, readMissingSigns } from '../../store/categories';
import { refreshStatistics, transaction } from '../../store/database';
import { findSoleDocuments, hasUnseenDocuments } from '../../store/documents';
import { tell } from '../../store/events';
import { dropFirstRanking, saveFirstRanking } from '../../store/first-ranking';
import { applyGuards, readGuarded } from '../../store/guards';
import { holdLease, type Job, noteProgress } from '../../store/jobs';
import { hasLots } from '../../store/lots';
import { countPlacements, hasPlacements } from '../../store/placements';
import { type ScanStage, saveOutline, updateScan } from '../../store/scans';
import { hasLooseMessages, joinThreads } from '../../store/threads';
import { LARGE, TooLarge, type Turn, type WorkContext } from '../context';
import { readLevel } from '../listing';
import { noticeOfScan } from '../notices';
import { type ChangedFolder, changedFolders } from './changed';
import { Crew, type FolderTask } from './crew';
import { type ComparedFolder, FolderSync } from './folder';
import { OutlinePass, total, WORTH_OUTLINING } from './outline';

/** Rounds after which a folder that never stands still is left as it is then; the next scan goes on. */
const MOST_ROUNDS = 8;
const PROGRESS_MS = 400;

/** Messages of a folder that one connection reads before it looks for more work. */
const SHARE = 10_000;

/** A scan of a folder, cut up. */
interface ShareTask extends FolderTask {
  compared: ComparedFolder;
  place: Place;
  uids: Ranges;
}

/**
 * Makes the index equal to the server, in stages so that the user can begin at once: the level; an outline of all messages
 * that are new, by which senders are ranked; their details, the biggest first; and what needs all of them to be told.
 *
 * What is compared is the UIDs of each folder that changed, so a scan that was killed goes on where it was, and one with
 * nothing changed costs the listing alone.
 *
 * @param another signs in once more, for a scan of many messages.
 */
export async function scan(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  another: () => Promise<MailServer>,
  turn: Turn,
): Promise<void> {
  await new Scanner(context, job, account, server, another, turn).run();
}

class Scanner {
  private readonly folders = { done: 0, total: 0 };
  private readonly messages = { done: 0, total: 0 };
  private stage: ScanStage = 'level';
  private toldAt = 0;
  /** Whether this try got on for good, so that the next would be a first one. */
  private lasts = false;
  private readonly sync: FolderSync;
  private readonly crew: Crew;

  constructor(
    private readonly context: WorkContext,
    private readonly job: Job,
    private readonly account: Account,
    server: MailServer,
    another: () => Promise<MailServer>,
    private readonly turn: Turn,
  ) {
    this.sync = new FolderSync(context, job, account, server, (messages) => this.written(messages));
    this.crew = new Crew(server, another);
  }

  async run(): Promise<void> {
    try {
      for (let round = 0; round < MOST_ROUNDS; round++) {
        const listed = await readLevel(this.context.database, this.account.id, this.crew.first);
        const changed = await changedFolders(this.context.database, this.account.id, listed, round === 0);
        if (round === 0) await this.plan(changed);
        if (changed.length === 0) break;
        await this.read(changed);
      }
    } finally {
      await this.crew.close();
    }
    await this.settle();
    this.messages.done = this.messages.total;
    this.folders.done = this.folders.total;
    await this.write('done');
  }

  /** Makes folders that changed equal to the server's. */
  private async read(changed: readonly ChangedFolder[]): Promise<void> {
    if (this.messages.total > WORTH_OUTLINING) await this.crew.grow();
    const compared: ComparedFolder[] = [];
    const folders = changed.map(({ folder }) => ({ folder, serverName: folder.serverName }));
    await this.crew.each(folders, async (server, { folder }, open) => {
      if (open) compared.push(await this.sync.compare(server, folder, open));
    });
    // Those with the most octets first, however many connections compared them.
    const order = new Map(changed.map(({ folder }, index) => [folder.id, index]));
    compared.sort((a, b) => (order.get(a.folder.id) ?? 0) - (order.get(b.folder.id) ?? 0));
    const outline = (await this.isWorthOutlining(compared)) ? await this.outline(compared) : undefined;
    this.stage = 'details';
    this.messages.done = 0;
    const big = new Map(compared.map(({ folder }) => [folder.id, outline?.bigOf(folder.id) ?? []]));
    await this.details(compared, ({ folder }) => big.get(folder.id) ?? []);
    if (outline) await this.fenced((client) => tell(client, this.account.id, 'index', {}));
    await this.details(compared, ({ folder, fresh }) => difference(fresh, big.get(folder.id) ?? []));
    const trash = compared.filter(({ folder }) => this.sync.isTrash(folder));
    await this.crew.each(
      trash.map((each) => ({ compared: each, serverName: each.folder.serverName })),
      async (server, task, open) => {
        if (isSame(task.compared, open)) await this.sync.readPlacedAt(server, task.compared);
      },
    );
    for (const each of compared) {
      await this.sync.finish(each);
      this.folders.done = Math.min(this.folders.total, this.folders.done + 1);
      await this.progress();
    }
  }

  /** A ranking is of the whole mailbox, so before its first messages are in. */
  private async isWorthOutlining(compared: readonly ComparedFolder[]): Promise<boolean> {
    return total(compared) > WORTH_OUTLINING && !(await hasPlacements(this.context.database, this.account.id));
  }

  private async outline(compared: readonly ComparedFolder[]): Promise<OutlinePass> {
    this.stage = 'outline';
    await this.write('running');
    const pass = new OutlinePass();
    await this.crew.each(
      shares(compared, ({ fresh }) => fresh),
      async (server, task, open) => {
        const { folder } = task.compared;
        if (isSame(task.compared, open))
          await pass.read(server, folder.id, task, !this.sync.isTrash(folder), (messages) => this.count(messages));
      },
    );
    await this.fenced(async (client) => {
      await saveFirstRanking(client, this.account.id, pass.authors);
      await saveOutline(client, this.account.id, this.job.subject, pass.sums);
      await tell(client, this.account.id, 'index', {});
    });
    return pass;
  }

  private async details(
    compared: readonly ComparedFolder[],
    part: (compared: ComparedFolder) => Ranges,
  ): Promise<void> {
    await this.crew.each(shares(compared, part), async (server, task, open) => {
      if (isSame(task.compared, open)) await this.sync.fetch(server, task);
    });
  }

  /** Told of messages whose details are in the index: they are not read again, however this try ends. */
  private async written(messages: number): Promise<void> {
    this.lasts = true;
    await this.count(messages);
  }

  private async count(messages: number): Promise<void> {
    this.crew.advanced();
    this.messages.done += messages;
    await this.progress();
  }

  /** Tells what needs the whole mailbox to be told: threads, and categories by whom the user wrote to. */
  private async settle(): Promise<void> {
    let unread: number;
    do unread = await this.fenced((client) => readMissingSigns(client, this.account));
    while (unread > 0);
    // A scan that was killed after its last message finds nothing changed, and has still to be settled.
    const { database } = this.context;
    const unsettled =
      this.sync.touched ||
      (await hasLooseMessages(database, this.account.id)) ||
      (await hasUnseenDocuments(database, this.account.id)) ||
      (await isUnsettled(database, this.account.id));
    if (!unsettled) return;
    this.stage = 'settling';
    await this.write('running');
    await refreshStatistics(database);
    await this.fenced(async (client) => {
      await takeUnsettled(client, this.account.id);
      await joinThreads(client, this.account.id);
      await categorise(client, this.account);
      await findSoleDocuments(client, this.account);
      if (await hasLots(client, this.account.id))
        await applyGuards(client, this.account, await readGuarded(client, this.account, new Date()));
      await dropFirstRanking(client, this.account.id);
      await tell(client, this.account.id, 'index', {});
    });
  }

  private async plan(changed: readonly ChangedFolder[]): Promise<void> {
    this.folders.total = changed.length;
    for (const { status, generation } of changed) {
      const have =
        generation?.uidValidity === status.uidValidity
          ? await countPlacements(this.context.database, this.account.id, generation.id)
          : 0;
      this.messages.total += Math.max(0, status.messages - have);
    }
    await this.write('running');
    if (this.messages.total > LARGE && !this.turn.claimLarge()) throw new TooLarge();
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
        stage: this.stage,
        folders: this.folders,
        messages: this.messages,
        problem: null,
        ...(this.lasts ? { attempts: 0 } : {}),
      });
      if (this.lasts) await noteProgress(client, this.job);
      if (state === 'done') await noticeOfScan(client, this.account, scan);
      await tell(client, this.account.id, 'scan', scan);
    });
  }
}

/** Cuts what is to be read of folders into what one connection reads at a time. */
function shares(compared: readonly ComparedFolder[], part: (compared: ComparedFolder) => Ranges): ShareTask[] {
  return compared.flatMap((each) =>
    [...chunksOf(part(each), SHARE)].map((uids) => ({
      compared: each,
      place: each.place,
      serverName: each.folder.serverName,
      uids,
    })),
  );
}

/** A folder that changed its UIDVALIDITY meanwhile, or went, is looked at again in the next round. */
function isSame({ generation }: ComparedFolder, open: OpenFolder | undefined): boolean {
  return open?.uidValidity === generation.uidValidity;
}
