import * as clock from '../../clock/clock';
import { chunksOf, difference, type Ranges } from '../../core/sets/ranges';
import { MailProblem } from '../../mail/problem';
import type { ListedFolder, MailServer, OpenFolder } from '../../mail/server';
import { type Account, needsFinalizing, takeFinalizing } from '../../store/access/accounts';
import { refreshStatistics } from '../../store/database';
import { tell } from '../../store/events';
import type { Place } from '../../store/index/arrivals';
import { categorise, readMissingSigns } from '../../store/index/categories';
import { dropFirstRanking, saveFirstRanking } from '../../store/index/first-ranking';
import type { Generation } from '../../store/index/folders';
import { readGuarded } from '../../store/index/guarded';
import { countsByGeneration, hasPlacements } from '../../store/index/placements';
import { type ScanStage, saveOutline, updateScan } from '../../store/index/scans';
import { findSoleDocuments, hasUnseenDocuments } from '../../store/index/sole-documents';
import { hasLooseMessages, joinThreads } from '../../store/index/threads';
import type { Job } from '../../store/jobs';
import { applyGuards } from '../../store/plan/guards';
import { hasLots } from '../../store/plan/lots';
import { LARGE, TooLarge, type Turn, type WorkContext } from '../context';
import { type Fence, fenceOf } from '../fence';
import { noticeOfScan } from '../notices';
import { type ChangedFolder, changedFolders } from '../sync/changed-folders';
import type { Gatherer } from '../sync/details';
import { readLevel } from '../sync/folder-listing';
import { type ComparedFolder, FolderSync } from '../sync/folder-sync';
import { ConnectionPool, type FolderTask } from './connection-pool';
import { OutlinePass, total, WORTH_OUTLINING } from './outline';
import { readUnreadFiles } from './unread-files';

/** Rounds after which a folder that never stands still is left as it is then; the next scan goes on. */
const MAX_ROUNDS = 8;
const PROGRESS_MS = 400;

/** Folders from which on further connections are worth their sign-in, and small ones are read as a whole. */
const WORTH_CONNECTIONS = 50;
/** Messages of a folder that is read as a whole. */
const SMALL = 200;
/** Messages of a mailbox below which joining each with each costs little. */
const WORTH_STATISTICS = 2_000;
/** Folders whose end is written down together. */
const FINISHED_AT_ONCE = 200;

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
  private readonly fenced: Fence;
  private readonly pool: ConnectionPool;

  constructor(
    private readonly context: WorkContext,
    private readonly job: Job,
    private readonly account: Account,
    server: MailServer,
    another: () => Promise<MailServer>,
    private readonly turn: Turn,
  ) {
    this.fenced = fenceOf(context, job);
    this.sync = new FolderSync(context, job, account, server, (messages) => this.written(messages));
    this.pool = new ConnectionPool(server, another);
  }

  async run(): Promise<void> {
    try {
      for (let round = 0; round < MAX_ROUNDS; round++) {
        const { database } = this.context;
        const listed = await this.pool.ask((server) => readLevel(database, this.account.id, server));
        this.checkSize(listed);
        this.sync.forgetTrash();
        const changed = await changedFolders(this.context.database, this.account.id, listed, round === 0);
        if (round === 0) await this.plan(changed);
        if (changed.length === 0) break;
        await this.read(changed);
      }
      await this.pool.visit([undefined], (server) =>
        readUnreadFiles(this.context.database, this.account.id, server, this.fenced),
      );
    } finally {
      await this.pool.close();
    }
    await this.finalize();
    this.messages.done = this.messages.total;
    this.folders.done = this.folders.total;
    await this.write('done');
  }

  /** What is larger than the operator allows is not read in part: figures of a part would be taken for the whole. */
  private checkSize(listed: readonly ListedFolder[]): void {
    const { mostMessages } = this.context;
    const messages = listed.reduce((sum, { status, repeats }) => sum + (repeats ? 0 : (status?.messages ?? 0)), 0);
    if (messages > mostMessages)
      throw new MailProblem(
        'too-many-messages',
        `This mailbox holds ${messages} messages. The operator of this instance allows ${mostMessages} for one mailbox. Nothing was read.`,
      );
  }

  /** Makes folders that changed equal to the server's. */
  private async read(changed: readonly ChangedFolder[]): Promise<void> {
    if (this.messages.total > WORTH_OUTLINING || changed.length > WORTH_CONNECTIONS) await this.pool.grow();
    const isFirst = !(await hasPlacements(this.context.database, this.account.id));
    const pass = new OutlinePass();
    const { read: small, rest } = await this.readSmall(changed, pass);
    const compared: ComparedFolder[] = [];
    const folders = rest.map(({ folder, generation }) => ({ folder, generation, serverName: folder.serverName }));
    await this.pool.each(folders, async (server, { folder, generation }, open) => {
      if (open) compared.push(await this.sync.compare(server, folder, open, generation));
    });
    // Those with the most octets first, however many connections compared them.
    const order = new Map(changed.map(({ folder }, index) => [folder.id, index]));
    compared.sort((a, b) => (order.get(a.folder.id) ?? 0) - (order.get(b.folder.id) ?? 0));
    const outline = isFirst && total(compared) > WORTH_OUTLINING ? await this.outline(compared, pass) : undefined;
    this.stage = 'details';
    this.messages.done = 0;
    const big = new Map(compared.map(({ folder }) => [folder.id, outline?.bigOf(folder.id) ?? []]));
    await this.details(compared, ({ folder }) => big.get(folder.id) ?? []);
    if (outline) await this.fenced((client) => tell(client, this.account.id, 'index', {}));
    await this.details(compared, ({ folder, fresh }) => difference(fresh, big.get(folder.id) ?? []));
    const all = [...small, ...compared];
    await this.readPlacedAt(all);
    for (let at = 0; at < all.length; at += FINISHED_AT_ONCE) {
      const some = all.slice(at, at + FINISHED_AT_ONCE);
      await this.sync.finish(some);
      this.folders.done = Math.min(this.folders.total, this.folders.done + some.length);
      await this.progress();
    }
  }

  /**
   * Reads small folders that were never read, each as a whole in one round trip, and writes many of them together. What did not
   * come as a whole is left to be compared.
   */
  private async readSmall(
    changed: readonly ChangedFolder[],
    pass: OutlinePass,
  ): Promise<{ read: ComparedFolder[]; rest: ChangedFolder[] }> {
    const counts = await countsByGeneration(
      this.context.database,
      this.account.id,
      changed.flatMap(({ generation }) => (generation?.seenMessages === null ? generation.id : [])),
    );
    const isSmall = ({ generation, status }: ChangedFolder) =>
      status.messages > 0 &&
      status.messages <= SMALL &&
      (generation === undefined || (generation.uidValidity === status.uidValidity && counts.get(generation.id) === 0));
    const small = changed.filter(isSmall);
    if (small.length < WORTH_CONNECTIONS) return { read: [], rest: [...changed] };
    this.stage = 'details';
    const rest = changed.filter((each) => !isSmall(each));
    const generations = await this.sync.begin(
      small.map(({ folder, status }) => ({ folder, uidValidity: status.uidValidity })),
    );
    const tasks = small.map((each, index) => ({ ...each, generation: generations[index] as Generation }));
    const read: ComparedFolder[] = [];
    const gatherers = new Map<MailServer, Gatherer>();
    await this.pool.visit(tasks, async (server, task) => {
      const { folder, status, generation } = task;
      const whole = await server.readWhole(folder.serverName, status.messages);
      if (whole?.open.uidValidity !== generation.uidValidity) {
        rest.push(task);
        return;
      }
      const gatherer = gatherers.get(server) ?? this.sync.gatherer();
      gatherers.set(server, gatherer);
      const compared = this.sync.readWhole(folder, generation, whole);
      await gatherer.add(compared.place, whole.records);
      if (!(await this.sync.isTrash(folder))) pass.add(whole.records);
      read.push(compared);
    });
    for (const gatherer of gatherers.values()) await gatherer.end();
    return { read, rest };
  }

  /** Asks when messages came into the trash. */
  private async readPlacedAt(compared: readonly ComparedFolder[]): Promise<void> {
    const trash: ComparedFolder[] = [];
    for (const each of compared) if (await this.sync.isTrash(each.folder)) trash.push(each);
    await this.pool.each(
      trash.map((each) => ({ compared: each, serverName: each.folder.serverName })),
      async (server, task, open) => {
        if (isSame(task.compared, open)) await this.sync.readPlacedAt(server, task.compared);
      },
    );
  }

  private async outline(compared: readonly ComparedFolder[], pass: OutlinePass): Promise<OutlinePass> {
    this.stage = 'outline';
    await this.write('running');
    await this.pool.each(
      shares(compared, ({ fresh }) => fresh),
      async (server, task, open) => {
        const { folder } = task.compared;
        const counts = !(await this.sync.isTrash(folder));
        if (isSame(task.compared, open))
          await pass.read(server, folder.id, task, counts, (messages) => this.count(messages));
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
    await this.pool.each(shares(compared, part), async (server, task, open) => {
      if (isSame(task.compared, open)) await this.sync.fetch(server, task);
    });
  }

  /** Told of messages whose details are in the index: they are not read again, however this try ends. */
  private async written(messages: number): Promise<void> {
    this.lasts = true;
    await this.count(messages);
  }

  private async count(messages: number): Promise<void> {
    this.pool.advanced();
    this.messages.done += messages;
    await this.progress();
  }

  /** Tells what needs the whole mailbox to be told: threads, and categories by whom the user wrote to. */
  private async finalize(): Promise<void> {
    let unread: number;
    do unread = await this.fenced((client) => readMissingSigns(client, this.account));
    while (unread > 0);
    // A scan that was killed after its last message finds nothing changed, and still has to be finalized.
    const { database } = this.context;
    const isDue =
      this.sync.touched ||
      (await hasLooseMessages(database, this.account.id)) ||
      (await hasUnseenDocuments(database, this.account.id)) ||
      (await needsFinalizing(database, this.account.id));
    if (!isDue) return;
    this.stage = 'finalizing';
    await this.write('running');
    if (await this.isWorthStatistics()) await refreshStatistics(database);
    await this.fenced(async (client) => {
      await takeFinalizing(client, this.account.id);
      await joinThreads(client, this.account.id);
      await categorise(client, this.account);
      await findSoleDocuments(client, this.account);
      if (await hasLots(client, this.account.id))
        await applyGuards(client, this.account, await readGuarded(client, this.account, clock.now()));
      await dropFirstRanking(client, this.account.id);
      await tell(client, this.account.id, 'index', {});
    });
  }

  /**
   * Whether the planner has to look at the tables again for this mailbox: it takes as long whatever the mailbox is, and to a small one it
   * makes no difference.
   */
  private async isWorthStatistics(): Promise<boolean> {
    const { database } = this.context;
    if (this.messages.done < WORTH_STATISTICS && !(await needsFinalizing(database, this.account.id))) return false;
    return hasPlacements(database, this.account.id, WORTH_STATISTICS);
  }

  private async plan(changed: readonly ChangedFolder[]): Promise<void> {
    this.folders.total = changed.length;
    const counts = await countsByGeneration(
      this.context.database,
      this.account.id,
      changed.flatMap(({ generation }) => generation?.id ?? []),
    );
    for (const { status, generation } of changed) {
      const have = generation?.uidValidity === status.uidValidity ? (counts.get(generation.id) ?? 0) : 0;
      this.messages.total += Math.max(0, status.messages - have);
    }
    await this.write('running');
    if (this.messages.total > LARGE && !this.turn.claimLarge()) throw new TooLarge();
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
      if (this.lasts) await this.turn.progressed(client);
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
