import { trashFolder, trashFolders } from '../../core/mailbox/folders';
import { patient } from '../../mail/patient';
import { MailProblem } from '../../mail/problem';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/accounts';
import { type Batch, type BatchMethod, beginBatch, openBatches } from '../../store/batches';
import { type Queryable, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { foldersOf, type StoredFolder } from '../../store/folders';
import { keptOf, leave, type PendingPlacement, pendingByGeneration, pendingOf, strayedOf } from '../../store/frozen';
import { holdLease, type Job } from '../../store/jobs';
import { addWorked, type LeftReason, type Run, runById, updateRun, wantedOf } from '../../store/runs';
import type { WorkContext } from '../context';
import { FolderSync } from '../scan/folder';
import { conclude, levelMark } from './conclude';
import { type Destination, Folders } from './folders';
import { Haul } from './haul';
import { Pace } from './pace';

/** Pending members held in memory at a time. */
const CHUNK = 50_000;
/** How often the same message is sent again before it is left. */
const MOST_TRIES = 3;
/** Messages of the first batch where it has to be found out what the server does. */
const PROBE = 20;

export type Outcome = 'done' | 'paused' | 'cancelled';

/**
 * Carries out a run on exactly the placements that were frozen for it.
 *
 * A batch is written down before its command is sent and closed when the server has said what became of it. One that
 * was sent and never closed is settled first: the server is asked where its messages are, and only what still lies at
 * the source is tried again.
 */
export async function carryOut(context: WorkContext, job: Job, account: Account, server: MailServer): Promise<Outcome> {
  const run = (await runById(context.database, account.id, job.subject)) as Run;
  return new Carrier(context, job, account, server, run).carryOut();
}

/** A pending placement with the folder it goes to; null for a purge. */
interface Routed extends PendingPlacement {
  destination: number | null;
}

class Carrier {
  private readonly server: MailServer;
  private readonly pace = new Pace();
  private readonly folders: Folders;
  private readonly haul: Haul;
  private readonly tries = new Map<number, number>();
  private trash: StoredFolder | undefined;
  private trashIds = new Set<number>();
  private since = Date.now();

  constructor(
    private readonly context: WorkContext,
    private readonly job: Job,
    private readonly account: Account,
    server: MailServer,
    private readonly run: Run,
  ) {
    this.server = patient(server, () => this.askedForPatience());
    const sync = new FolderSync(context, job, account, this.server);
    const fenced = this.fenced.bind(this);
    this.folders = new Folders(context.database, account, this.server, sync, fenced);
    this.haul = new Haul(context.database, account, this.server, run, this.folders, fenced, this.announce.bind(this));
  }

  async carryOut(): Promise<Outcome> {
    await this.begin();
    for (const batch of await openBatches(this.context.database, this.account.id, this.run.id))
      await this.haul.settle(batch);
    if (this.run.action !== 'restore') await this.guard();
    const outcome = await this.work();
    if (outcome !== 'paused') await conclude(this.context, this.job, this.account, this.server, this.run, outcome);
    return outcome;
  }

  private async begin(): Promise<void> {
    const before = this.run.before ?? (await levelMark(this.context.database, this.account, this.server));
    await this.fenced(async (client) => {
      await updateRun(client, this.account.id, this.run.id, { state: 'running', before, problem: null });
      await this.announce(client);
    });
    const folders = await foldersOf(this.context.database, this.account.id);
    this.trash = trashFolder(folders, this.account.settings.trashFolder);
    this.trashIds = new Set(trashFolders(folders, this.account.settings.trashFolder).map(({ id }) => id));
    if (this.run.action === 'trash' && !this.trash)
      throw new MailProblem('folder-gone', 'The mailbox has no trash folder. Make one, or name one in the settings.');
  }

  /** Leaves what guards and holds keep now, by the flags that the messages bear on the server. */
  private async guard(): Promise<void> {
    for (const { generation, uids } of await pendingByGeneration(this.context.database, this.account.id, this.run.id))
      await this.folders.refreshFlags(generation, uids);
    await this.fenced(async (client) => {
      const kept = await keptOf(client, this.account, this.run.id);
      for (const reason of ['held', 'guarded'] as const)
        await leave(client, this.account.id, this.run.id, reason, kept[reason]);
    });
  }

  /** Works through what is pending, folder by folder; while the end of a batch is written down the next is sent. */
  private async work(): Promise<Outcome> {
    let booking: Promise<void> = Promise.resolve();
    try {
      for (let queue = await this.pending(); queue.length > 0; queue = await this.pending()) {
        while (queue.length > 0) {
          const wanted = await wantedOf(this.context.database, this.account.id, this.run.id);
          if (wanted) {
            await booking;
            if (wanted === 'cancel') await this.leaveRest();
            return wanted === 'pause' ? 'paused' : 'cancelled';
          }
          const booked = booking;
          const members = await this.nextOf(queue, booked);
          if (members.length === 0) continue;
          const sent = await this.batch(members, booked);
          queue.unshift(...sent.again);
          booking = booked.then(sent.book);
          booking.catch(() => undefined);
        }
        await booking;
      }
      await booking;
      return 'done';
    } finally {
      await booking.catch(() => undefined);
    }
  }

  private async leaveRest(): Promise<void> {
    for (let rest = await this.pendingNow(); rest.length > 0; rest = await this.pendingNow())
      await this.leave(
        'cancelled',
        rest.map(({ id }) => id),
      );
  }

  private pendingNow(): Promise<PendingPlacement[]> {
    return pendingOf(this.context.database, this.account.id, this.run.id, this.run.action === 'restore', CHUNK);
  }

  /** What is pending where it was frozen, with where it goes; what is elsewhere or has nowhere to go is left. */
  private async pending(): Promise<Routed[]> {
    await this.fenced(async (client) => {
      const strayed = await strayedOf(client, this.account.id, this.run.id);
      for (const reason of ['vanished', 'moved', 'changed'] as const)
        await leave(client, this.account.id, this.run.id, reason, strayed[reason]);
    });
    const pending = await this.pendingNow();
    if (this.run.action !== 'restore')
      return pending.map((placement) => ({ ...placement, destination: this.destinationOf(placement) }));
    const routed: Routed[] = [];
    const unknown: number[] = [];
    for (const placement of pending) {
      const destination = placement.origin ?? this.run.fallback;
      if (destination === null) unknown.push(placement.id);
      else routed.push({ ...placement, destination });
    }
    await this.leave('unknown', unknown);
    return routed.length === 0 && unknown.length > 0 ? this.pending() : routed;
  }

  /** The trash for a run to it, and for a purge outside it as long as the server might put things there by itself. */
  private destinationOf({ folder }: PendingPlacement): number | null {
    if (!this.trash) return null;
    if (this.run.action === 'trash') return this.trash.id;
    return this.trashIds.has(folder) || (this.haul.probed && !this.run.handsOver) ? null : this.trash.id;
  }

  /** Takes the next batch off the queue: of one folder, to one folder, as many as the pace allows. */
  private async nextOf(queue: Routed[], booked: Promise<void>): Promise<Routed[]> {
    const first = queue[0] as Routed;
    let end = 1;
    while (end < queue.length && together(first, queue[end] as Routed)) end++;
    const candidates = queue.slice(0, end).sort((a, b) => a.uid - b.uid);
    const probing = !this.haul.probed && this.methodOf(first) !== 'move' && first.destination !== null;
    if (probing) this.pace.atMost(PROBE);
    const members = candidates.slice(0, this.pace.share(candidates.map(({ uid }) => uid)));
    const taken = new Set(members.map(({ id }) => id));
    queue.splice(0, end, ...candidates.filter(({ id }) => !taken.has(id)));
    const worn = members.filter(({ id }) => (this.tries.get(id) ?? 0) >= MOST_TRIES);
    if (worn.length === 0) return members;
    await booked;
    await this.leave(
      'refused',
      worn.map(({ id }) => id),
    );
    return members.filter((member) => !worn.includes(member));
  }

  private methodOf({ destination, folder }: Routed): BatchMethod {
    if (this.run.action === 'purge') return this.run.handsOver && destination !== null ? 'hand-over' : 'expunge';
    if (this.server.dialect.move) return 'move';
    return this.run.handsOver && !this.trashIds.has(folder) ? 'hand-over' : 'copy';
  }

  /**
   * Sends one batch.
   *
   * @param booked the end of the batch before, which may still be being written down.
   * @returns how its end is written down, and what has to be sent again.
   */
  private async batch(
    members: Routed[],
    booked: Promise<void>,
  ): Promise<{ book: () => Promise<void>; again: Routed[] }> {
    const { generation, destination } = members[0] as Routed;
    const reason = await this.folders.open(generation);
    if (reason === 'changed') {
      // Known again under new UIDs, they come with the next look at what is pending.
      await booked;
      if ((await this.folders.follow(generation)) === undefined) await this.leaveAll('folder-gone', members);
      return { book: async () => {}, again: [] };
    }
    if (reason !== undefined) {
      await booked;
      await this.leaveAll(reason, members);
      return { book: async () => {}, again: [] };
    }
    for (const { id } of members) this.tries.set(id, (this.tries.get(id) ?? 0) + 1);
    const to =
      destination === null ? undefined : await this.folders.destination(destination, this.run.action === 'restore');
    const batch = await this.written(members, to);
    const started = Date.now();
    try {
      const close = await this.haul.send(batch);
      this.pace.answered(members.length, Date.now() - started);
      const worked = Date.now() - this.since;
      this.since = Date.now();
      return {
        book: async () => {
          await close();
          await addWorked(this.context.database, this.account.id, this.run.id, worked);
        },
        again: [],
      };
    } catch (error) {
      await booked;
      return { book: async () => {}, again: await this.refused(error, batch, members) };
    }
  }

  private written(members: Routed[], to: Destination | undefined): Promise<Batch> {
    const first = members[0] as Routed;
    return this.fenced((client) =>
      beginBatch(client, this.account.id, this.run.id, {
        method: this.methodOf(first),
        generation: first.generation,
        members: members.map(({ id, uid }) => ({ id, uid, arrived: 0 })),
        destination: to?.folder.id ?? null,
        destinationValidity: to?.uidValidity ?? null,
        destinationUidNext: to?.uidNext ?? null,
      }),
    );
  }

  /** A command was refused. What of the batch was done all the same is settled; the rest is tried in another way or left. */
  private async refused(error: unknown, batch: Batch, members: Routed[]): Promise<Routed[]> {
    if (!(error instanceof MailProblem) || !REFUSALS.has(error.kind)) throw error;
    const { database } = this.context;
    const open = (await openBatches(database, this.account.id, this.run.id)).find(({ seq }) => seq === batch.seq);
    if (open) await this.haul.settle(open);
    const pending = new Set((await this.pendingNow()).map(({ id }) => id));
    const rest = members.filter(({ id }) => pending.has(id));
    if (rest.length === 0) return [];
    if (error.kind === 'no-room') return this.fitting(rest);
    if (error.kind === 'folder-gone') {
      // The destination went: it is made again where that may be.
      this.folders.forget(batch.destination as number);
      return rest;
    }
    if (error.kind !== 'read-only' && rest.length > 1) {
      // One bad message must not keep the others, nor a cap the rest: halve until it stands alone.
      for (const { id } of rest) this.tries.delete(id);
      this.pace.complained(rest.length);
      return rest;
    }
    if (error.kind === 'throttled') throw error;
    this.pace.recovered();
    await this.leaveAll(error.kind === 'read-only' ? 'read-only' : 'refused', rest);
    return [];
  }

  /** A full mailbox takes copies only as far as they fit, so the smallest go first; what does not fit at all is left. */
  private async fitting(rest: Routed[]): Promise<Routed[]> {
    const sorted = [...rest].sort((a, b) => a.size - b.size);
    const quota = await this.server.quota();
    const free = quota?.limit != null && quota.used != null ? quota.limit - quota.used : undefined;
    let count = Math.floor(sorted.length / 2);
    if (free !== undefined) {
      let octets = 0;
      count = 0;
      while (count < sorted.length - 1 && octets + (sorted[count] as Routed).size <= free)
        octets += (sorted[count++] as Routed).size;
    }
    if (count === 0) {
      await this.leaveAll('no-room', sorted);
      return [];
    }
    // Sent by themselves, since a batch is taken by UID and not by size.
    const small = sorted.slice(0, count).sort((a, b) => a.uid - b.uid);
    for (const { id } of sorted) this.tries.delete(id);
    const again: Routed[] = [];
    while (small.length > 0) {
      const share = small.splice(0, this.pace.share(small.map(({ uid }) => uid)));
      const sent = await this.batch(share, Promise.resolve());
      await sent.book();
      again.push(...sent.again);
    }
    return [...again, ...sorted.slice(count)];
  }

  private leaveAll(reason: LeftReason, members: readonly Routed[]): Promise<void> {
    return this.leave(
      reason,
      members.map(({ id }) => id),
    );
  }

  private async leave(reason: LeftReason, ids: readonly number[]): Promise<void> {
    await this.fenced(async (client) => {
      await leave(client, this.account.id, this.run.id, reason, ids);
      await this.announce(client);
    });
  }

  private async askedForPatience(): Promise<void> {
    this.pace.complained();
    await this.fenced(async (client) => {
      const problem = { kind: 'throttled', detail: 'The server asked for patience; it goes on more slowly.' };
      await updateRun(client, this.account.id, this.run.id, { problem });
      await this.announce(client);
    });
  }

  private async announce(client: Queryable): Promise<void> {
    await tell(client, this.account.id, 'run', await runById(client, this.account.id, this.run.id));
  }

  private fenced<T>(act: (client: Queryable) => Promise<T>): Promise<T> {
    return transaction(this.context.database, async (client) => {
      await holdLease(client, this.job, this.context.worker);
      return act(client);
    });
  }
}

/** What a command may be refused for without ending the run. */
const REFUSALS = new Set<MailProblem['kind']>(['no-room', 'read-only', 'command-refused', 'throttled', 'folder-gone']);

function together(a: Routed, b: Routed): boolean {
  return a.generation === b.generation && a.destination === b.destination;
}
