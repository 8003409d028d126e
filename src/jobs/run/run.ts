import { trashFolder } from '../../core/mailbox/folders';
import { numbersOf, type Ranges, rangesOf } from '../../core/sets/ranges';
import { MailProblem } from '../../mail/problem';
import type { MailServer, Moved } from '../../mail/server';
import type { Account } from '../../store/accounts';
import { type Queryable, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { folderById, foldersOf, generationById, generationFor, type StoredFolder } from '../../store/folders';
import { holdLease, type Job } from '../../store/jobs';
import { countedBytes } from '../../store/level';
import { saveReading } from '../../store/readings';
import * as runs from '../../store/runs';
import type { WorkContext } from '../context';
import { pairByIdentity } from './identity';

/** Messages of one command, at first and at the least and most; it grows while the server is quick. */
const PACE = { first: 250, least: 25, most: 2_000 };
/** Milliseconds that a command should take: often enough to look whether the user wants it stopped. */
const COMFORTABLE_MS = 1_500;

type Outcome = 'done' | 'paused' | 'cancelled';

/**
 * Carries out a run on exactly the placements that were frozen for it.
 *
 * A batch is written down before its command is sent and closed when the server has said what became of it. One that
 * was sent and never closed is settled first: the server is asked where its messages are, and only what still lies at
 * the source is tried again.
 */
export async function carryOut(context: WorkContext, job: Job, account: Account, server: MailServer): Promise<Outcome> {
  const run = (await runs.runById(context.database, account.id, job.subject)) as runs.Run;
  return new Carrier(context, job, account, server, run).carryOut();
}

class Carrier {
  private size = PACE.first;
  private openFolder: number | undefined;
  /** UIDNEXT of a destination before the run brought anything there, by folder. */
  private readonly destinations = new Map<number, { generation: number; uidValidity: number; uidNext: number }>();

  constructor(
    private readonly context: WorkContext,
    private readonly job: Job,
    private readonly account: Account,
    private readonly server: MailServer,
    private readonly run: runs.Run,
  ) {}

  async carryOut(): Promise<Outcome> {
    await this.begin();
    for (const batch of await runs.openBatches(this.context.database, this.account.id, this.run.id))
      await this.settle(batch);
    await this.fenced(async (client) => {
      await runs.leave(
        client,
        this.account.id,
        this.run.id,
        'vanished',
        await runs.vanishedOf(client, this.account.id, this.run.id),
      );
      if (this.run.action !== 'restore') {
        const kept = await runs.keptOf(client, this.account, this.run.id);
        for (const reason of ['held', 'guarded'] as const)
          await runs.leave(client, this.account.id, this.run.id, reason, kept[reason]);
      }
    });
    const pending = await runs.pendingOf(this.context.database, this.account.id, this.run.id);
    const outcome = await this.work(pending);
    if (outcome !== 'paused') await this.end(outcome);
    return outcome;
  }

  private async begin(): Promise<void> {
    const before = this.run.before ?? (await this.mark());
    await this.fenced(async (client) => {
      await runs.updateRun(client, this.account.id, this.run.id, { state: 'running', before, problem: null });
      await this.announce(client);
    });
  }

  /** Works through what is pending, folder by folder. */
  private async work(pending: runs.PendingPlacement[]): Promise<Outcome> {
    const queue = await this.routed(pending);
    while (queue.length > 0) {
      const wanted = await this.wanted();
      if (wanted === 'pause') return 'paused';
      if (wanted === 'cancel') {
        await this.leave(
          'cancelled',
          queue.map(({ placement }) => placement.id),
        );
        return 'cancelled';
      }
      const first = queue[0] as Routed;
      const together = (routed: Routed) =>
        routed.placement.generation === first.placement.generation && routed.destination === first.destination;
      let count = 0;
      while (count < this.size && count < queue.length && together(queue[count] as Routed)) count++;
      const batch = queue.splice(0, count);
      const left = await this.batch(batch);
      queue.unshift(...left);
    }
    return 'done';
  }

  /** Gives each placement its destination: none for a purge; what has none is left. */
  private async routed(pending: readonly runs.PendingPlacement[]): Promise<Routed[]> {
    const { database } = this.context;
    if (this.run.action === 'purge') return pending.map((placement) => ({ placement, destination: null }));
    const folders = await foldersOf(database, this.account.id);
    if (this.run.action === 'trash') {
      const trash = trashFolder(folders, this.account.settings.trashFolder);
      if (!trash) throw new MailProblem('folder-gone', 'The mailbox has no trash folder. Name one in the settings.');
      return pending.map((placement) => ({ placement, destination: trash.id }));
    }
    const routed: Routed[] = [];
    const unknown: number[] = [];
    for (const placement of pending) {
      const destination = placement.origin ?? this.run.fallback;
      if (destination === null) unknown.push(placement.id);
      else routed.push({ placement, destination });
    }
    await this.leave('unknown', unknown);
    return routed.sort(
      (a, b) =>
        (a.destination ?? 0) - (b.destination ?? 0) ||
        a.placement.generation - b.placement.generation ||
        a.placement.uid - b.placement.uid,
    );
  }

  /** Sends one batch; gives back what has to be tried again. */
  private async batch(batch: Routed[]): Promise<Routed[]> {
    const { placement, destination } = batch[0] as Routed;
    const ids = batch.map(({ placement: { id } }) => id);
    if (!(await this.open(placement.generation, ids))) return [];
    const to = destination === null ? undefined : await this.destination(destination);
    const seq = await this.fenced((client) =>
      runs.beginBatch(client, this.account.id, this.run.id, {
        generation: placement.generation,
        ids,
        destination,
        destinationValidity: to?.uidValidity ?? null,
        destinationUidNext: to?.uidNext ?? null,
      }),
    );
    const started = Date.now();
    try {
      await this.command(
        seq,
        batch.map(({ placement: member }) => member),
        to,
      );
    } catch (error) {
      return this.refused(error, seq, batch);
    }
    const took = Date.now() - started;
    this.size = Math.round(
      Math.min(PACE.most, Math.max(PACE.least, took > COMFORTABLE_MS ? this.size / 2 : this.size * 2)),
    );
    return [];
  }

  private async command(seq: number, members: runs.PendingPlacement[], to: Destination | undefined): Promise<void> {
    const uids = rangesOf(members.map(({ uid }) => uid));
    if (!to) {
      await this.purge(seq, members, uids);
      return;
    }
    const moved = await this.move(uids, to.folder.serverName);
    const known = moved
      ? members.flatMap(({ id, uid }) => (moved.has(uid) ? [{ id, uid: moved.get(uid) as number }] : []))
      : [];
    if (known.length < members.length) {
      // The server did not tell all new UIDs: look what is still there, and find the rest by identity.
      const batch = (await runs.openBatches(this.context.database, this.account.id, this.run.id)).find(
        (open) => open.seq === seq,
      );
      if (batch) await this.settle(batch, known);
      return;
    }
    await this.close(seq, known, to, []);
  }

  private async move(uids: Ranges, destination: string): Promise<Moved> {
    if (this.server.dialect.move) return this.server.move(uids, destination);
    const copied = await this.server.copy(uids, destination);
    await this.server.markDeleted(uids, true);
    await this.server.expunge(uids);
    return copied;
  }

  private async purge(seq: number, members: readonly runs.PendingPlacement[], uids: Ranges): Promise<void> {
    await this.server.markDeleted(uids, true);
    await this.server.expunge(uids);
    const still = new Set(await this.server.uids(uids));
    const gone = members.filter(({ uid }) => !still.has(uid)).map(({ id }) => id);
    await this.fenced(async (client) => {
      await runs.purgePlacements(client, this.account.id, gone, this.run.id);
      await runs.closeBatch(client, this.account.id, this.run.id, seq, gone);
      await runs.leave(
        client,
        this.account.id,
        this.run.id,
        'refused',
        members.filter(({ uid }) => still.has(uid)).map(({ id }) => id),
      );
      await this.announce(client);
    });
  }

  /** Records what was moved where, and closes the batch. */
  private async close(
    seq: number,
    moved: { id: number; uid: number }[],
    to: Destination,
    vanished: number[],
  ): Promise<void> {
    await this.fenced(async (client) => {
      const trashedBy = this.run.action === 'trash' ? this.run.id : null;
      await runs.movePlacements(
        client,
        this.account.id,
        moved,
        { folder: to.folder.id, generation: to.generation },
        trashedBy,
      );
      await runs.losePlacements(client, this.account.id, vanished);
      await runs.closeBatch(
        client,
        this.account.id,
        this.run.id,
        seq,
        moved.map(({ id }) => id),
      );
      await runs.leave(client, this.account.id, this.run.id, 'vanished', vanished);
      await this.announce(client);
    });
  }

  /**
   * Finds out what became of a batch whose answer never came: asks what of it still lies at the source, and looks for
   * the rest at the destination, among what came there since the batch began.
   */
  private async settle(batch: runs.Batch, known: { id: number; uid: number }[] = []): Promise<void> {
    const { database } = this.context;
    const members = await runs.placementsById(database, this.account.id, numbersOf(batch.members));
    if (
      !(await this.open(
        batch.generation,
        members.map(({ id }) => id),
        batch.seq,
      ))
    )
      return;
    const uids = rangesOf(members.map(({ uid }) => uid));
    const still = new Set(await this.server.uids(uids));
    if (batch.destination === null) {
      await this.fenced(async (client) => {
        const gone = members.filter(({ uid }) => !still.has(uid)).map(({ id }) => id);
        await runs.purgePlacements(client, this.account.id, gone, this.run.id);
        await runs.closeBatch(client, this.account.id, this.run.id, batch.seq, gone);
        await this.announce(client);
      });
      return;
    }
    const told = new Set(known.map(({ id }) => id));
    // A MOVE leaves nothing behind, so with it only what is gone from the source can have arrived. Of messages that
    // are alike, those that are gone come first: they are the ones that arrived.
    const lost = members.filter(({ id }) => !told.has(id));
    const gone = lost.filter(({ uid }) => !still.has(uid));
    const stayed = lost.filter(({ uid }) => still.has(uid));
    const to = await this.destination(batch.destination);
    const arrived = await this.arrived(
      batch,
      to,
      [...gone, ...(this.server.dialect.move ? [] : stayed)].map(({ id }) => id),
    );
    const pairs = [...known, ...arrived];
    const found = new Set(pairs.map(({ id }) => id));
    // Copied but not yet expunged at the source: that remains to be done, now that the copies are known.
    const copied = stayed.filter(({ id }) => found.has(id));
    if (copied.length > 0) {
      await this.reopen(batch.generation);
      const sources = rangesOf(copied.map(({ uid }) => uid));
      await this.server.markDeleted(sources, true);
      await this.server.expunge(sources);
    }
    const vanished = gone.filter(({ id }) => !found.has(id)).map(({ id }) => id);
    await this.close(batch.seq, pairs, to, vanished);
  }

  /** Which of these came to the destination since the batch began, and under which UIDs. */
  private async arrived(
    batch: runs.Batch,
    to: Destination,
    ids: readonly number[],
  ): Promise<{ id: number; uid: number }[]> {
    const { database } = this.context;
    if (ids.length === 0 || to.uidValidity !== batch.destinationValidity) return [];
    const from = batch.destinationUidNext ?? 1;
    await this.reopen(to.generation);
    const candidates = await this.server.uids([[from, 0xffffffff]]);
    const taken = new Set(await runs.broughtUids(database, this.account.id, to.generation, from, this.run.id));
    const fresh = candidates.filter((uid) => uid >= from && !taken.has(uid));
    if (fresh.length === 0) return [];
    const records = [];
    for await (const record of this.server.metadata(rangesOf(fresh))) records.push(record);
    return pairByIdentity(await this.identities(ids), records);
  }

  /** The identities of these, in the order of the ids. */
  private async identities(ids: readonly number[]): Promise<runs.Identity[]> {
    const byId = new Map(
      (await runs.identitiesOf(this.context.database, this.account.id, ids)).map((identity) => [identity.id, identity]),
    );
    return ids.flatMap((id) => byId.get(id) ?? []);
  }

  /** A command was refused. What of the batch was done all the same is settled; the rest is tried in another way or left. */
  private async refused(error: unknown, seq: number, batch: Routed[]): Promise<Routed[]> {
    if (!(error instanceof MailProblem) || !['no-room', 'read-only', 'command-refused'].includes(error.kind))
      throw error;
    const open = (await runs.openBatches(this.context.database, this.account.id, this.run.id)).find(
      (sent) => sent.seq === seq,
    );
    if (open) await this.settle(open);
    const pending = new Set(
      (await runs.pendingOf(this.context.database, this.account.id, this.run.id)).map(({ id }) => id),
    );
    const rest = batch.filter(({ placement }) => pending.has(placement.id));
    const ids = rest.map(({ placement }) => placement.id);
    if (error.kind === 'no-room') return this.fitting(rest);
    if (error.kind === 'command-refused' && rest.length > 1) {
      // One bad message must not keep the others: halve until it stands alone.
      this.size = Math.max(1, Math.floor(rest.length / 2));
      return rest;
    }
    await this.leave(error.kind === 'read-only' ? 'read-only' : 'refused', ids);
    return [];
  }

  /** A full mailbox takes copies only as far as they fit, so the smallest go first; what does not fit at all is left. */
  private async fitting(batch: Routed[]): Promise<Routed[]> {
    const sorted = [...batch].sort((a, b) => a.placement.size - b.placement.size);
    const quota = await this.server.quota();
    const free = quota?.limit != null && quota.used != null ? quota.limit - quota.used : undefined;
    let count = Math.floor(sorted.length / 2);
    if (free !== undefined) {
      let octets = 0;
      count = 0;
      while (count < sorted.length - 1 && octets + (sorted[count] as Routed).placement.size <= free)
        octets += (sorted[count++] as Routed).placement.size;
    }
    if (count === 0) {
      this.size = PACE.first;
      await this.leave(
        'no-room',
        sorted.map(({ placement }) => placement.id),
      );
      return [];
    }
    this.size = count;
    return sorted;
  }

  /** A batch of which nothing was done: its members are pending again. */
  private async abandon(seq: number): Promise<void> {
    await this.fenced((client) => runs.closeBatch(client, this.account.id, this.run.id, seq, []));
  }

  /** Opens the source. Where it is another generation now or gone, the batch is left and false given. */
  private async open(generation: number, ids: readonly number[], seq?: number): Promise<boolean> {
    const reason = await this.reopen(generation);
    if (reason === undefined) return true;
    if (seq !== undefined) await this.abandon(seq);
    await this.leave(reason, ids);
    return false;
  }

  /** Selects the folder of a generation unless it is selected; says why it can't be used. */
  private async reopen(generation: number): Promise<runs.LeftReason | undefined> {
    if (this.openFolder === generation) return undefined;
    const { database } = this.context;
    const stored = await generationById(database, this.account.id, generation);
    const folder = (await folderById(database, this.account.id, stored.folder)) as StoredFolder;
    this.openFolder = undefined;
    try {
      const open = await this.server.open(folder.serverName);
      if (open.uidValidity !== stored.uidValidity) return 'changed';
      if (open.readOnly) return 'read-only';
    } catch (error) {
      if (error instanceof MailProblem && error.kind === 'folder-gone') return 'folder-gone';
      throw error;
    }
    this.openFolder = generation;
    return undefined;
  }

  /** The destination, made again where it is gone, with the UIDNEXT from which what we bring is found. */
  private async destination(id: number): Promise<Destination> {
    const { database } = this.context;
    const folder = (await folderById(database, this.account.id, id)) as StoredFolder;
    let known = this.destinations.get(id);
    if (!known) {
      let listed = (await this.server.folders()).find(({ serverName }) => serverName === folder.serverName);
      if (!listed) {
        await this.server.createFolder(folder.serverName);
        listed = (await this.server.folders()).find(({ serverName }) => serverName === folder.serverName);
      }
      if (!listed?.status) throw new MailProblem('folder-gone', `The folder ${folder.path} can’t be used.`);
      const { uidValidity, uidNext } = listed.status;
      const generation = await this.fenced((client) => generationFor(client, this.account.id, id, uidValidity));
      known = { generation: generation.id, uidValidity, uidNext };
      this.destinations.set(id, known);
    }
    return { folder, ...known };
  }

  private async wanted(): Promise<runs.Run['wanted']> {
    return (await runs.runById(this.context.database, this.account.id, this.run.id))?.wanted ?? null;
  }

  private async leave(reason: runs.LeftReason, ids: readonly number[]): Promise<void> {
    await this.fenced((client) => runs.leave(client, this.account.id, this.run.id, reason, ids));
  }

  private async end(outcome: 'done' | 'cancelled'): Promise<void> {
    const after = await this.mark();
    await this.fenced(async (client) => {
      await runs.updateRun(client, this.account.id, this.run.id, { state: outcome, after, wanted: null });
      await this.announce(client);
      await tell(client, this.account.id, 'index', {});
      await tell(client, this.account.id, 'level', {});
    });
  }

  /** How full it is now: what the server says, and what we count. */
  private async mark(): Promise<runs.LevelMark> {
    const quota = await this.server.quota();
    if (quota) await saveReading(this.context.database, this.account.id, quota);
    const counted = await countedBytes(this.context.database, this.account.id);
    return { used: quota?.used ?? null, counted, at: new Date().toISOString() };
  }

  private async announce(client: Queryable): Promise<void> {
    await tell(client, this.account.id, 'run', await runs.runById(client, this.account.id, this.run.id));
  }

  private fenced<T>(act: (client: Queryable) => Promise<T>): Promise<T> {
    return transaction(this.context.database, async (client) => {
      await holdLease(client, this.job, this.context.worker);
      return act(client);
    });
  }
}

interface Routed {
  placement: runs.PendingPlacement;
  /** Folder; null for a purge. */
  destination: number | null;
}

interface Destination {
  folder: StoredFolder;
  generation: number;
  uidValidity: number;
  uidNext: number;
}
