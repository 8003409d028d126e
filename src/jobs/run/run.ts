import * as clock from '../../clock/clock';
import { KEEP_FILES } from '../../core/guards/guards';
import { trashFolder, trashFolders } from '../../core/mailbox/folders';
import { isOfFiles } from '../../core/plan/fates';
import { difference, numbersOf, type Ranges, rangesOf } from '../../core/sets/ranges';
import { MailProblem } from '../../mail/problem';
import type { FlagsRecord, MailServer } from '../../mail/server';
import { withThrottleRetry } from '../../mail/throttle-retry';
import type { Account } from '../../store/access/accounts';
import type { Queryable } from '../../store/database';
import { tell } from '../../store/events';
import { foldersOf, type StoredFolder } from '../../store/index/folders';
import { keptAmong } from '../../store/index/guarded';
import { updateFlags } from '../../store/index/placements';
import type { Job } from '../../store/jobs';
import { type Batch, type BatchMethod, beginBatch, closeBatch, openBatches } from '../../store/runs/batches';
import {
  guardOverridesOf,
  leave,
  pendingAmong,
  pendingOf,
  type Strayed,
  type Unfollowed,
} from '../../store/runs/frozen';
import { expectedSizes, originalsOf } from '../../store/runs/rewrites';
import {
  addWorked,
  bringsToTrash,
  type LeftReason,
  noteRefusal,
  type Run,
  type RunPhase,
  runById,
  updateRun,
  wantedOf,
} from '../../store/runs/runs';
import { batches } from '../batches';
import { LARGE, TooLarge, type Turn, type WorkContext } from '../context';
import { type Fence, fenceOf } from '../fence';
import { FolderSync } from '../sync/folder-sync';
import { Archiver } from './archiver';
import { BatchExecutor } from './batch/executor';
import type { Answered, Close } from './batch/strategy';
import { BatchSizer } from './batch-sizer';
import { conclude, quotaSnapshot } from './conclude';
import { Destinations } from './destinations';
import { Folders } from './folders';
import { isOfConnection, type Lane, Lanes } from './lanes';
import { PutBack } from './put-back';
import { PACK_MESSAGES, PACK_OCTETS, Rewriter } from './rewriter';
import { Staying } from './staying';
import { arranged, type Group, isScattered, nextWave, type Planned, type Routed, sourcesOf } from './wave';

/** Pending members held in memory at a time. */
const CHUNK = 50_000;
/** How often the same message is sent again before it is left. */
const MAX_TRIES = 3;
/** Messages of the first batch where it has to be found out what the server does. */
const PROBE = 20;
/** Groups of a wave from which on further connections are worth their sign-in. */
const WORTH_LANES = 8;
/** Messages that lose files in one wave: a replacement stands beside each until the originals go. */
const TAKEN_OUT_AT_ONCE = 50;
/** How many times as much room as is needed is surely enough, since sizes are told from the index. */
const ROOM = 2;
/** Milliseconds between two announcements of what is done. */
const ANNOUNCED_MS = 400;

export type RunOutcome = 'done' | 'paused' | 'cancelled';

/**
 * Carries out a run on exactly the placements that were frozen for it.
 *
 * A batch is written down before its command is sent and closed when the server has said what became of it. One that
 * was sent and never closed is recovered first: the server is asked where its messages are, and only what still lies at
 * the source is tried again.
 *
 * @param another signs in once more, for a run over many folders.
 */
export async function carryOut(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  another: () => Promise<MailServer>,
  turn: Turn,
): Promise<RunOutcome> {
  const run = (await runById(context.database, account.id, job.subject)) as Run;
  if (run.asked.messages > LARGE && !turn.claimLarge()) throw new TooLarge();
  return new Carrier(context, job, account, server, another, run, turn).carryOut();
}

class Carrier {
  private readonly lanes: Lanes;
  private readonly server: MailServer;
  private readonly executor: BatchExecutor;
  private readonly fenced: Fence;
  /** Whether it is known what the server does with what is expunged outside the trash. */
  private readonly probe: { done: boolean };
  private readonly destinations: Destinations;
  private readonly sizer = new BatchSizer();
  private readonly tries = new Map<number, number>();
  /** Generations that were closed in mid-run and whose messages were looked for in the one that followed. */
  private readonly followed = new Set<number>();
  private trash: StoredFolder | undefined;
  private trashIds = new Set<number>();
  private overrides: Ranges = [];
  private since = Date.now();
  private announcedAt = 0;
  /** Takes files out of messages before these are moved, where the run is for that. */
  private readonly rewriter: Rewriter | undefined;
  /** Puts messages of the archive back, where the run is for that: its members are none of the mailbox. */
  private readonly putBack: PutBack | undefined;
  /** Saves messages before these are moved, where the run is for that. */
  private readonly archiver: Archiver | undefined;
  /** Knows the copies that stay, where the run takes copies of messages. */
  private readonly staying: Staying;
  /** By member, about how many octets its replacement has; only where there may be no room for all. */
  private replacementSizes: Map<number, number> | undefined;

  constructor(
    private readonly context: WorkContext,
    private readonly job: Job,
    private readonly account: Account,
    server: MailServer,
    another: () => Promise<MailServer>,
    private readonly run: Run,
    private readonly turn: Turn,
  ) {
    this.server = this.patiently(server);
    this.fenced = fenceOf(context, job, { bySets: true });
    this.probe = { done: run.handsOver };
    // Where messages come back to, a folder that is gone is made again.
    const mayMake = run.action === 'restore' || run.action === 'put-back';
    this.destinations = new Destinations(context.database, account, this.server, this.fenced, mayMake);
    const first = this.laneOver(this.server);
    this.executor = first.executor;
    this.staying = new Staying(context, account, run.id);
    if (isOfFiles(run.action))
      this.rewriter = new Rewriter(context, account, run, this.server, first.folders, this.staying, this.fenced);
    if (run.action === 'archive') this.archiver = new Archiver(context, job, account, this.server, another, turn, run);
    if (run.action === 'put-back')
      this.putBack = new PutBack(
        context,
        account,
        run,
        this.server,
        first.folders,
        this.destinations,
        this.fenced,
        turn,
      );
    this.lanes = new Lanes(first, async () => this.laneOver(this.patiently(await another())));
  }

  private patiently(server: MailServer): MailServer {
    return withThrottleRetry(server, () => this.askedForPatience());
  }

  private laneOver(server: MailServer): Lane {
    const { context, account, destinations, run, fenced, probe } = this;
    const sync = new FolderSync(context, this.job, account, server);
    const folders = new Folders(context.database, account, server, sync, destinations);
    const announce = this.announce.bind(this);
    const { database } = context;
    const executor = new BatchExecutor({
      database,
      account,
      server,
      run,
      folders,
      destinations,
      fenced,
      announce,
      probe,
    });
    return { server, folders, executor };
  }

  async carryOut(): Promise<RunOutcome> {
    try {
      await this.begin();
      const open = await openBatches(this.context.database, this.account.id, this.run.id);
      if (open.length > 0)
        await this.says(
          'recovering',
          open.reduce((sum, { members }) => sum + members.length, 0),
        );
      for (const batch of open) {
        await this.executor.recover(batch);
        await this.fenced((client) => this.turn.progressed(client));
      }
      const outcome = this.putBack
        ? await this.puttingBack(this.putBack)
        : ((await this.archived()) ?? (await this.work()));
      if (outcome === 'paused') return outcome;
      await this.says('concluding');
      await this.rewriter?.flags.afterTheyWent();
      await conclude(this.context, this.job, this.account, this.server, this.run, outcome);
      return outcome;
    } finally {
      this.staying.close();
      await this.lanes.close();
    }
  }

  private async begin(): Promise<void> {
    const { database } = this.context;
    await this.says('measuring');
    const before = this.run.before ?? (await quotaSnapshot(database, this.account, this.server));
    await this.fenced(async (client) => {
      await updateRun(client, this.account.id, this.run.id, { state: 'running', before, problem: null });
      await this.announce(client);
    });
    if (this.rewriter) this.replacementSizes = await this.sizesWhereScarce();
    this.overrides = await guardOverridesOf(database, this.account.id, this.run.id);
    const folders = await foldersOf(database, this.account.id);
    this.trash = trashFolder(folders, this.account.settings.trashFolder);
    this.trashIds = new Set(trashFolders(folders, this.account.settings.trashFolder).map(({ id }) => id));
    if (bringsToTrash(this.run) && !this.trash)
      throw new MailProblem(
        'folder-gone',
        'The mailbox has no trash folder. Create one, or choose one in the settings.',
      );
  }

  private async puttingBack(putBack: PutBack): Promise<RunOutcome> {
    await this.says('putting-back', this.run.asked.messages);
    return putBack.work();
  }

  /** Has all members saved, where the run is for that; gives how it ends, where somebody wants it to stop. */
  private async archived(): Promise<RunOutcome | undefined> {
    if (!this.archiver) return undefined;
    await this.says('saving', this.run.asked.messages);
    const stopped = await this.archiver.fill();
    if (stopped === 'cancelled') await this.leaveRest();
    return stopped;
  }

  /** Works through what is pending, wave after wave; while the end of one is written down the next is sent. */
  private async work(): Promise<RunOutcome> {
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
          const groups = await this.worthTrying(nextWave(queue, ...this.waveSize(queue)), booked);
          const { closes, again } = await this.wave(groups, booked);
          for (const one of again) queue.push(one);
          if (again.length > 0) this.arranged(queue);
          booking = booked.then(() => this.book(closes));
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
    for (;;) {
      const { atSource, strayed, unfollowed } = await this.pendingNow();
      await this.leaveStrayed(strayed);
      const rest = [...atSource, ...unfollowed];
      if (rest.length === 0) return;
      await this.leaveAll('cancelled', rest);
    }
  }

  private pendingNow() {
    return pendingOf(this.context.database, this.account.id, this.run.id, CHUNK);
  }

  /** What is pending where it was frozen, with where it goes; what is elsewhere or has nowhere to go is left. */
  private async pending(): Promise<Routed[]> {
    await this.says('planning');
    for (;;) {
      const { atSource, strayed, unfollowed } = await this.pendingNow();
      await this.followAll(unfollowed);
      const unknown: number[] = [];
      const routed: Routed[] = [];
      for (const placement of atSource) {
        const destination = this.destinationOf(placement);
        if (destination === undefined) unknown.push(placement.id);
        else routed.push({ ...placement, destination });
      }
      const wasNone = (await this.leaveStrayed(strayed)) + unknown.length + unfollowed.length === 0;
      await this.leave('unknown', unknown);
      if (routed.length > 0 || wasNone) return this.arranged(routed);
    }
  }

  /** Orders what is pending so that the next is at the end. Where there is no room for all replacements, the smallest go first. */
  private arranged(pending: Routed[]): Routed[] {
    const sizes = this.replacementSizes;
    if (!sizes) return arranged(pending);
    const sizeOf = ({ id }: Routed) => sizes.get(id) ?? 0;
    return pending.sort((a, b) => sizeOf(b) - sizeOf(a));
  }

  /**
   * Has a replacement stand beside each message that is to lose files. The others are left, each with its reason.
   *
   * @returns those whose replacement stands, and those that were not dealt with, since somebody wants the run to stop.
   */
  private async replaced(groups: Group[], rewriter: Rewriter): Promise<{ ready: Group[]; rest: Routed[] }> {
    const { database } = this.context;
    await this.says('taking-out', countOfMembers(groups));
    const originals = await originalsOf(
      database,
      this.account.id,
      this.run.id,
      groups.flatMap(({ members }) => members.map(({ id }) => id)),
    );
    const ready: Group[] = [];
    const rest: Routed[] = [];
    let stops = false;
    for (const group of groups) {
      const members: Routed[] = [];
      for await (const pack of batches(group.members, PACK_MESSAGES, PACK_OCTETS)) {
        stops ||= (await wantedOf(database, this.account.id, this.run.id)) !== null;
        if (stops) {
          for (const member of pack) rest.push(member);
          continue;
        }
        const outcomes = await rewriter.replace(pack, originals);
        for (const member of pack) {
          const outcome = outcomes.get(member.id);
          if (outcome === undefined) throw new Error(`Nothing became of message ${member.id}.`);
          if (outcome === 'stands') members.push(member);
          else await this.leaveAll(outcome, [member]);
        }
        await this.fenced((client) => this.turn.progressed(client));
      }
      if (members.length > 0) ready.push({ ...group, members });
    }
    // The last look before the originals go.
    const last = await rewriter.withoutOthers(
      ready.flatMap(({ members }) => members),
      originals,
    );
    await this.leave('last-copy', last);
    const going: Group[] = [];
    for (const group of leaving(ready, new Set(last))) {
      const left = await rewriter.flags.beforeTheyGo(group.generation, group.members);
      for (const [id, reason] of left) await this.leave(reason, [id]);
      const usable = without(group, new Set(left.keys()));
      if (usable.members.length > 0) going.push(usable);
    }
    return { ready: going, rest };
  }

  /** Reads folders anew whose UIDVALIDITY changed. What was found is at its source by then; the rest is left as changed. */
  private async followAll(unfollowed: readonly Unfollowed[]): Promise<void> {
    for (const generation of new Set(unfollowed.map((member) => member.generation))) {
      const members = unfollowed.filter((member) => member.generation === generation);
      const isSecondTime = this.followed.has(generation);
      this.followed.add(generation);
      if (isSecondTime) await this.leaveAll('changed', members);
      else if ((await this.lanes.first.folders.follow(generation)) === undefined)
        await this.leaveAll('folder-gone', members);
    }
  }

  private async leaveStrayed(strayed: Record<Strayed, number[]>): Promise<number> {
    for (const reason of ['vanished', 'moved', 'changed'] as const) await this.leave(reason, strayed[reason]);
    return strayed.vanished.length + strayed.moved.length + strayed.changed.length;
  }

  /**
   * Where a message goes: the trash for a run to it, and for a purge outside it as long as the server might put things there
   * by itself; null for nowhere. Undefined where nobody knows where it came from.
   */
  private destinationOf({ folder, origin }: { folder: number; origin: number | null }): number | null | undefined {
    if (this.run.action === 'restore') return origin ?? this.run.fallback ?? undefined;
    if (!this.trash) return null;
    if (bringsToTrash(this.run)) return this.trash.id;
    return this.trashIds.has(folder) || (this.probe.done && !this.run.handsOver) ? null : this.trash.id;
  }

  /** As much as the server takes well; a first batch by itself where it has to be found out what it does. */
  private waveSize(queue: readonly Routed[]): [messages: number, batches?: number] {
    if (this.rewriter) this.sizer.atMost(TAKEN_OUT_AT_ONCE);
    const next = queue.at(-1) as Routed;
    const probing = !this.probe.done && this.methodOf(next) !== 'move' && next.destination !== null;
    if (!probing) return [this.sizer.size];
    this.sizer.atMost(PROBE);
    return [this.sizer.size, 1];
  }

  /** Leaves what was sent too often. */
  private async worthTrying(groups: Group[], booked: Promise<void>): Promise<Group[]> {
    const worn = groups.flatMap(({ members }) => members.filter(({ id }) => (this.tries.get(id) ?? 0) >= MAX_TRIES));
    if (worn.length === 0) return groups;
    await booked;
    await this.leaveAll('refused', worn);
    const ids = new Set(worn.map(({ id }) => id));
    return groups
      .map((group) => ({ ...group, members: group.members.filter(({ id }) => !ids.has(id)) }))
      .filter(({ members }) => members.length > 0);
  }

  private methodOf({ destination }: Routed): BatchMethod {
    if (this.run.action === 'purge') return this.run.handsOver && destination !== null ? 'hand-over' : 'expunge';
    return this.server.dialect.move ? 'move' : 'copy';
  }

  /** Whether the server tells enough of each command for several to be carried out at a time. */
  private get tellsAll(): boolean {
    const { move, uidPlus } = this.server.dialect;
    return uidPlus && (this.run.action === 'purge' ? this.probe.done && !this.run.handsOver : move);
  }

  /**
   * Sends a wave.
   *
   * @param booked the end of the wave before, which may still be being written down.
   * @returns how its end is written down, and what has to be sent again.
   */
  private async wave(groups: Group[], booked: Promise<void>): Promise<{ closes: Close[]; again: Routed[] }> {
    const parallel = this.tellsAll && groups.length > 1;
    if (parallel && groups.length >= WORTH_LANES) await this.lanes.grow();
    const looked = await this.looked(groups, parallel, booked);
    const safe = this.archiver ? await this.withCopy(looked, this.archiver) : looked;
    const { ready, rest } = this.rewriter ? await this.replaced(safe, this.rewriter) : { ready: safe, rest: [] };
    const planned = await this.planned(ready);
    if (planned.length === 0) return { closes: [], again: rest };
    await this.says('carrying-out', countOfMembers(planned.map(({ group }) => group)));
    const started = Date.now();
    const { outcomes, lost } = await this.lanes.each(
      planned,
      parallel,
      (lane, one) => this.send(lane, one),
      (one, other) => parallel && one.batch.method === 'move' && one.group.generation === other.group.generation,
    );
    this.sizer.answered(countOfMembers(planned.map(({ group }) => group)), Date.now() - started);
    const closes = outcomes.flatMap(({ result }) => result?.close ?? []);
    const open = outcomes.filter(({ result, error }) => error !== undefined || result?.recover);
    if (lost === undefined && open.length === 0) return { closes, again: rest };
    // Nothing may be under way, and all that came must be known, before the fate of the others is told.
    await booked;
    await this.book(closes);
    if (lost !== undefined) throw lost;
    const again = rest;
    for (const { task, result, error } of open) {
      if (result?.recover) await result.recover();
      else for (const one of await this.refused(error, task)) again.push(one);
    }
    return { closes: [], again };
  }

  /**
   * Looks at the messages of a wave as they are on the server now: without a positive answer for each nothing is done to it.
   * What is gone, lies where nothing can be done, or is kept by guards and holds for the flags that it bears, is left.
   */
  private async looked(groups: Group[], parallel: boolean, booked: Promise<void>): Promise<Group[]> {
    await this.says('checking', countOfMembers(groups));
    const { outcomes, lost } = await this.lanes.each(groups, parallel, (lane, group) => this.look(lane, group));
    if (lost !== undefined) throw lost;
    const looks: (Look & { group: Group })[] = [];
    for (const { task, result, error } of outcomes) {
      if (error !== undefined && !isOfConnection(error)) throw error;
      // Another connection was lost over it.
      looks.push({ group: task, ...(result ?? (await this.look(this.lanes.first, task))) });
    }
    await booked;
    const usable: Group[] = [];
    const changed: { generation: number; flags: FlagsRecord[] }[] = [];
    for (const { group, reason, gone, flags, existing } of looks) {
      if (reason) await this.cannotUse(reason, group);
      else {
        await this.executor.markVanished(group.generation, gone);
        const rest = without(group, new Set(gone.map(({ id }) => id)));
        if (rest.members.length > 0) usable.push({ ...rest, existing });
        if (flags.length > 0) changed.push({ generation: group.generation, flags });
      }
    }
    return this.run.action === 'restore' ? usable : this.unguarded(usable, changed);
  }

  private async look({ server, folders }: Lane, group: Group): Promise<Look> {
    const nothing = { flags: [], gone: [], existing: undefined };
    const uids = rangesOf(group.members.map(({ uid }) => uid));
    // What is brought back is kept by nobody.
    if (this.run.action === 'restore') return { ...nothing, reason: await folders.open(group.generation) };
    const { reason, flags } = await folders.flags(group.generation, uids);
    if (reason !== undefined) return { ...nothing, reason };
    const told = new Map(flags.map((record) => [record.uid, record]));
    const silent = group.members.filter(({ uid }) => !told.has(uid));
    if (silent.length > 0 && (await server.uids(rangesOf(silent.map(({ uid }) => uid)))).length > 0)
      throw new MailProblem(
        'unreadable-answer',
        'The server gives no flags for some messages, so Tamsel can’t tell whether a guard protects them. It left them alone.',
      );
    return {
      reason,
      gone: silent,
      flags: group.members.flatMap((member) => {
        const record = told.get(member.uid);
        const isSame = record?.flags === member.flags && record.keywords.join(' ') === member.keywords;
        return record && !isSame ? [record] : [];
      }),
      existing: isScattered(group)
        ? await server.uids([[group.members[0]?.uid ?? 1, group.members.at(-1)?.uid ?? 1]])
        : undefined,
    };
  }

  /** What of a folder that can't be used was to be touched is left, or known again under new UIDs. */
  private async cannotUse(reason: LeftReason, { generation, members }: Group): Promise<void> {
    if (reason !== 'changed') await this.leaveAll(reason, members);
    // They come again with the next look at what is pending.
    else if ((await this.lanes.first.folders.follow(generation)) === undefined)
      await this.leaveAll('folder-gone', members);
  }

  /** Leaves what guards and holds keep now. */
  private async unguarded(
    groups: Group[],
    changed: readonly { generation: number; flags: FlagsRecord[] }[],
  ): Promise<Group[]> {
    const kept = await this.fenced(async (client) => {
      for (const { generation, flags } of changed) await updateFlags(client, this.account.id, generation, flags);
      const ids = groups.flatMap(({ members }) => members.map(({ id }) => id));
      const among = await keptAmong(client, this.account, clock.now(), ids, this.rewriter && KEEP_FILES);
      // What the user let through is kept by a hold alone.
      const guarded = [...numbersOf(difference(rangesOf(among.guarded), this.overrides))];
      await leave(client, this.account.id, this.run.id, 'held', among.held);
      await leave(client, this.account.id, this.run.id, 'guarded', guarded);
      return new Set([...among.held, ...guarded]);
    });
    return this.withCopyThatStays(leaving(groups, kept));
  }

  /** Leaves what would be the last copy of its message, where that was not to happen: another program may have taken the others. */
  private async withCopyThatStays(groups: Group[]): Promise<Group[]> {
    const ids = groups.flatMap(({ members }) => members.map(({ id }) => id));
    const last = this.rewriter ? [] : await this.staying.lastAmong(ids, this.lanes.first);
    await this.leave('last-copy', last);
    return leaving(groups, new Set(last));
  }

  /** Leaves what has no copy in the archive that was read back. */
  private async withCopy(groups: Group[], archiver: Archiver): Promise<Group[]> {
    const members = groups.flatMap((group) => group.members.map(({ id }) => id));
    const unsafe = await archiver.withoutCopy(members);
    await this.leave('unchecked', unsafe);
    return leaving(groups, new Set(unsafe));
  }

  /** Writes batches down, all at once. */
  private async planned(groups: readonly Group[]): Promise<Planned[]> {
    // Known before any command is sent: asking where a folder is takes commands of its own.
    for (const { destination } of groups) if (destination !== null) await this.destinations.get(destination);
    for (const { members } of groups) for (const { id } of members) this.tries.set(id, (this.tries.get(id) ?? 0) + 1);
    if (groups.length === 0) return [];
    return this.fenced(async (client) => {
      const planned: Planned[] = [];
      for (const group of groups) {
        const batch = await this.begun(client, group);
        planned.push({ group, batch, sources: sourcesOf(group, batch) });
      }
      return planned;
    });
  }

  private async begun(client: Queryable, { generation, destination, members }: Group): Promise<Batch> {
    const to = destination === null ? undefined : await this.destinations.get(destination);
    return beginBatch(client, this.account.id, this.run.id, {
      method: this.methodOf(members[0] as Routed),
      generation,
      members: members.map(({ id, uid }) => ({ id, uid, arrived: 0 })),
      destination: to?.folder.id ?? null,
      destinationValidity: to?.uidValidity ?? null,
      destinationUidNext: to?.uidNext ?? null,
    });
  }

  private async send({ folders, executor }: Lane, { group, batch, sources }: Planned): Promise<Answered> {
    const reason = await folders.open(group.generation);
    if (reason === undefined) return executor.send(batch, sources);
    // It was never sent.
    return {
      recover: async () => {
        await this.book([(client) => closeBatch(client, this.account.id, this.run.id, batch, [])]);
        await this.cannotUse(reason, group);
      },
    };
  }

  /** Writes down that batches are over, all in one transaction. */
  private async book(closes: readonly Close[]): Promise<void> {
    if (closes.length === 0) return;
    const worked = Date.now() - this.since;
    this.since = Date.now();
    await this.fenced(async (client) => {
      for (const close of closes) await close(client);
      await addWorked(client, this.account.id, this.run.id, worked);
      await this.turn.progressed(client);
      await this.announce(client);
    });
  }

  /** A command was refused. What of the batch was done all the same is recovered; the rest is tried in another way or left. */
  private async refused(error: unknown, { batch, group }: Planned): Promise<Routed[]> {
    const ofLane = isOfConnection(error);
    if (!(error instanceof MailProblem) || !(ofLane || REFUSALS.has(error.kind))) throw error;
    const { database } = this.context;
    const open = (await openBatches(database, this.account.id, this.run.id)).find(({ seq }) => seq === batch.seq);
    if (open) await this.executor.recover(open);
    const rest = await this.stillPending(group.members);
    // A further connection was lost: the first goes on.
    if (rest.length === 0 || ofLane) return rest;
    if (error.kind === 'no-room' || (await this.isForWantOfRoom(error, rest))) return this.fitting(rest, error);
    if (error.kind === 'folder-gone') {
      // The destination went: it is made again where that may be.
      this.destinations.forget(batch.destination as number);
      return rest;
    }
    if (error.kind !== 'read-only' && rest.length > 1) {
      // One bad message must not keep the others, nor a cap the rest: halve until it stands alone.
      for (const { id } of rest) this.tries.delete(id);
      this.sizer.complained(rest.length);
      return rest;
    }
    if (error.kind === 'throttled') throw error;
    this.sizer.recovered();
    await this.leaveAll(error.kind === 'read-only' ? 'read-only' : 'refused', rest, error);
    return [];
  }

  private async stillPending(members: readonly Routed[]): Promise<Routed[]> {
    const pending = await pendingAmong(
      this.context.database,
      this.account.id,
      this.run.id,
      members.map(({ id }) => id),
    );
    return members.filter(({ id }) => pending.has(id));
  }

  /** Whether a refusal that gives no reason can be one for want of room, by what the quota says: a copy needs room, a MOVE none. */
  private async isForWantOfRoom(error: MailProblem, rest: readonly Routed[]): Promise<boolean> {
    if (error.kind !== 'command-refused' || this.run.action === 'purge') return false;
    const free = await this.freeOctets();
    const needed = this.server.dialect.move ? 1 : rest.reduce((sum, { size }) => sum + size, 0);
    return free !== undefined && free < needed;
  }

  /** About how many octets each replacement has, where all together may not fit; undefined where they do. */
  private async sizesWhereScarce(): Promise<Map<number, number> | undefined> {
    const sizes = await expectedSizes(this.context.database, this.account.id, this.run.id);
    const free = await this.freeOctets();
    const needed = [...sizes.values()].reduce((sum, size) => sum + size, 0);
    return free !== undefined && free < ROOM * needed ? sizes : undefined;
  }

  private async freeOctets(): Promise<number | undefined> {
    const quota = await this.server.quota();
    return quota?.limit != null && quota.used != null ? quota.limit - quota.used : undefined;
  }

  /** A full mailbox takes copies only as far as they fit, so the smallest go first; what does not fit at all is left. */
  private async fitting(rest: Routed[], because: MailProblem): Promise<Routed[]> {
    const sorted = [...rest].sort((a, b) => a.size - b.size);
    const free = await this.freeOctets();
    let count = Math.floor(sorted.length / 2);
    if (free !== undefined) {
      let octets = 0;
      count = 0;
      while (count < sorted.length - 1 && octets + (sorted[count] as Routed).size <= free)
        octets += (sorted[count++] as Routed).size;
    }
    if (count === 0) {
      await this.leaveAll('no-room', sorted, new MailProblem('no-room', because.message));
      return [];
    }
    for (const { id } of sorted) this.tries.delete(id);
    // Sent by themselves, since a wave is taken by UID and not by size.
    const small = arranged(sorted.slice(0, count));
    const again: Routed[] = sorted.slice(count);
    while (small.length > 0) {
      const sent = await this.wave(nextWave(small, this.sizer.size, 1), Promise.resolve());
      await this.book(sent.closes);
      for (const one of sent.again) again.push(one);
    }
    return again;
  }

  private leaveAll(reason: LeftReason, members: readonly { id: number }[], because?: MailProblem): Promise<void> {
    return this.leave(
      reason,
      members.map(({ id }) => id),
      because,
    );
  }

  private async leave(reason: LeftReason, ids: readonly number[], because?: MailProblem): Promise<void> {
    if (ids.length === 0) return;
    await this.fenced(async (client) => {
      await leave(client, this.account.id, this.run.id, reason, ids);
      if (because) await noteRefusal(client, this.account.id, this.run.id, because);
      await this.announce(client);
    });
  }

  private async askedForPatience(): Promise<void> {
    this.sizer.complained();
    await this.fenced(async (client) => {
      const problem = { kind: 'throttled', detail: 'The server asked for patience; it goes on more slowly.' };
      await updateRun(client, this.account.id, this.run.id, { problem });
      await this.announce(client, true);
    });
  }

  /** Says what is being done now, and with how many messages. */
  private async says(phase: RunPhase, messages = 0): Promise<void> {
    await this.fenced(async (client) => {
      await updateRun(client, this.account.id, this.run.id, { doing: { phase, messages } });
      await this.announce(client);
    });
  }

  /** Tells of the run, unless that was just done and what follows tells of it too. */
  private async announce(client: Queryable, surely = false): Promise<void> {
    if (!surely && Date.now() - this.announcedAt < ANNOUNCED_MS) return;
    this.announcedAt = Date.now();
    await tell(client, this.account.id, 'run', await runById(client, this.account.id, this.run.id));
  }
}

/** What a look at the messages of a group showed. */
interface Look {
  /** Why its folder can't be used. */
  reason: LeftReason | undefined;
  /** Members that are not there any more. */
  gone: Routed[];
  /** The flags of those whose flags changed since they were last seen. */
  flags: FlagsRecord[];
  /** All UIDs between its first and its last member, where it is scattered. */
  existing: Ranges | undefined;
}

/** What a command may be refused for without ending the run. */
const REFUSALS = new Set<MailProblem['kind']>(['no-room', 'read-only', 'command-refused', 'throttled', 'folder-gone']);

/** Groups without some of their members, and those of which something is left. */
function leaving(groups: Group[], ids: ReadonlySet<number>): Group[] {
  if (ids.size === 0) return groups;
  return groups.map((group) => without(group, ids)).filter(({ members }) => members.length > 0);
}

function without(group: Group, ids: ReadonlySet<number>): Group {
  return ids.size === 0 ? group : { ...group, members: group.members.filter(({ id }) => !ids.has(id)) };
}

function countOfMembers(groups: readonly Group[]): number {
  return groups.reduce((sum, { members }) => sum + members.length, 0);
}
