import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/accounts';
import { categorise, readMissingSigns } from '../../store/categories';
import { refreshStatistics, transaction } from '../../store/database';
import { findSoleDocuments, hasUnseenDocuments } from '../../store/documents';
import { tell } from '../../store/events';
import { applyGuards, readGuarded } from '../../store/guards';
import { holdLease, type Job } from '../../store/jobs';
import { hasLots } from '../../store/lots';
import { countPlacements } from '../../store/placements';
import { updateScan } from '../../store/scans';
import { hasLooseMessages, joinThreads } from '../../store/threads';
import type { WorkContext } from '../context';
import { readLevel } from '../listing';
import { noticeOfScan } from '../notices';
import { type ChangedFolder, changedFolders } from './changed';
import { FolderSync } from './folder';

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

class Scanner {
  private readonly folders = { done: 0, total: 0 };
  private readonly messages = { done: 0, total: 0 };
  private toldAt = 0;
  private readonly sync: FolderSync;

  constructor(
    private readonly context: WorkContext,
    private readonly job: Job,
    private readonly account: Account,
    private readonly server: MailServer,
  ) {
    this.sync = new FolderSync(context, job, account, server, async (messages) => {
      this.messages.done += messages;
      await this.progress();
    });
  }

  async run(): Promise<void> {
    for (let round = 0; round < MOST_ROUNDS; round++) {
      const listed = await readLevel(this.context.database, this.account.id, this.server);
      const changed = await changedFolders(this.context.database, this.account.id, listed, round === 0);
      if (round === 0) await this.plan(changed);
      if (changed.length === 0) break;
      for (const pair of changed) {
        await this.sync.sync(pair.folder);
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
      this.sync.touched ||
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
      if (state === 'done') await noticeOfScan(client, this.account, scan);
      await tell(client, this.account.id, 'scan', scan);
    });
  }
}
