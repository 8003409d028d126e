import type { MessageRecord } from '../../../core/mailbox/record';
import { difference, intersection, MAX_UID, numbersOf, type Ranges, rangesOf } from '../../../core/sets/ranges';
import { MailProblem } from '../../../mail/problem';
import type { MailServer, Moved } from '../../../mail/server';
import type { Account } from '../../../store/access/accounts';
import type { Database, Queryable } from '../../../store/database';
import {
  broughtUids,
  freshIdentitiesIn,
  type Identity,
  identitiesOf,
  losePlacements,
  movePlacements,
  placementsById,
} from '../../../store/index/moves';
import { advanceBatch, type Batch, type BatchMember, closeBatch } from '../../../store/runs/batches';
import { leave } from '../../../store/runs/frozen';
import { type Run, updateRun } from '../../../store/runs/runs';
import type { Fence } from '../../fence';
import type { Destination, Destinations } from '../destinations';
import type { Folders } from '../folders';
import { pairByIdentity } from '../pair-by-identity';

/** A message that came into a destination. */
type Newcomer = Omit<Identity, 'id'> & { uid: number };

/** Writes in a transaction that a batch is over. */
export type Close = (client: Queryable) => Promise<void>;

/** What became of a batch that was sent. */
export interface Answered {
  /** How its end is written down; undefined where it is already. */
  close?: Close;
  /** Where the server did not say all: finds out the rest. Nothing else may be under way meanwhile. */
  recover?: () => Promise<void>;
}

/** What all batches of a run on one connection share. */
export interface BatchContext {
  database: Database;
  account: Account;
  server: MailServer;
  run: Run;
  folders: Folders;
  destinations: Destinations;
  fenced: Fence;
  announce: (client: Queryable) => Promise<void>;
  /** Whether it is known what the server does with what is expunged outside the trash. */
  probe: { done: boolean };
}

/**
 * Carries batches of one method through their commands. How far a batch is stands in the tables before the next command is
 * sent, so that whoever takes it up knows what may have happened, and asks the server which of it did. What is done is only
 * what the server says afterwards.
 */
export abstract class BatchStrategy {
  constructor(protected readonly context: BatchContext) {}

  /**
   * Sends the commands of a batch that was just written down. The folder of its source is open.
   *
   * @param sources its UIDs, maybe as ranges over UIDs that stand for no message.
   * @returns how its end is written down, which may be while the server goes on.
   */
  abstract send(batch: Batch, sources: Ranges): Promise<Answered>;

  /**
   * Finds out what became of a batch whose answer never came, or did not say all, and carries it to its end.
   *
   * @param known members of which it is known already that they arrived.
   */
  abstract recover(batch: Batch, known?: readonly BatchMember[]): Promise<void>;

  /**
   * Which members are still at the source. Where its UIDVALIDITY changed, the members are known by new UIDs then.
   *
   * @param isAnswered whether the server said OK to what takes them away: then one more answer that they are gone is enough.
   */
  protected async locateAtSource(batch: Batch, isAnswered = false): Promise<{ batch: Batch; still: Set<number> }> {
    const reason = await this.context.folders.open(batch.generation);
    if (reason === 'folder-gone') return { batch, still: new Set() };
    if (reason !== 'changed') {
      const ours = rangesOf(batch.members.map(({ uid }) => uid));
      const uids = isAnswered
        ? new Set(numbersOf(await this.context.server.uids(ours)))
        : await this.standing(batch.generation, ours);
      return { batch, still: new Set(batch.members.filter(({ uid }) => uids.has(uid)).map(({ id }) => id)) };
    }
    const generation = await this.context.folders.follow(batch.generation);
    const now = new Map(
      (
        await placementsById(
          this.context.database,
          this.context.account.id,
          batch.members.map(({ id }) => id),
        )
      )
        .filter((placement) => !placement.gone && placement.generation === generation)
        .map(({ id, uid }) => [id, uid]),
    );
    const members = batch.members.map((member) => ({ ...member, uid: now.get(member.id) ?? member.uid }));
    members.sort((a, b) => a.uid - b.uid);
    const followed = await this.advance({ ...batch, generation: generation ?? batch.generation, members });
    return { batch: followed, still: new Set(now.keys()) };
  }

  /**
   * Which of these the open folder holds. One answer that some are gone is not enough: the folder is opened anew, so that the
   * server tells nothing of what others expunged meanwhile (RFC 9051 §7.5.1), and each is asked for by itself.
   *
   * @param within a shorter way to name them, which may hold others.
   */
  protected async standing(generation: number, uids: Ranges, within = uids): Promise<Set<number>> {
    const { server, folders } = this.context;
    const found = intersection(await server.uids(within), uids);
    const standing = new Set(numbersOf(found));
    const silent = difference(uids, found);
    if (silent.length === 0) return standing;
    const reason = await folders.open(generation, true);
    if (reason === 'folder-gone') return new Set();
    if (reason === 'changed')
      throw new MailProblem(
        'unreadable-answer',
        'A folder changed while Tamsel looked at it. Tamsel did nothing there.',
      );
    for await (const told of server.flags(silent)) for (const { uid } of told) standing.add(uid);
    return standing;
  }

  /** Expunges members that are marked, and nothing else: without UIDPLUS others' marks are lifted for that moment. */
  protected async expungeOnly(batch: Batch, generation: number, among: readonly BatchMember[]): Promise<void> {
    const members = new Set(among.map(({ uid }) => uid));
    if (members.size === 0) return;
    if (this.context.server.dialect.uidPlus) {
      await this.context.server.expunge(rangesOf(members));
      return;
    }
    const others = difference(await this.context.server.deletedUids(), rangesOf(members));
    if (others.length > 0) {
      await this.advance({ ...batch, lifted: { generation, uids: others } });
      await this.context.server.markDeleted(others, false);
    }
    try {
      await this.context.server.expungeAll();
    } finally {
      // Where the connection is gone, whoever recovers the batch puts them back.
      if (others.length > 0) await this.context.server.markDeleted(others, true);
    }
    if (others.length > 0) await this.advance({ ...batch, lifted: null });
  }

  protected async noteHandOver(client: Queryable): Promise<void> {
    this.context.run.handsOver = true;
    await updateRun(client, this.context.account.id, this.context.run.id, { handsOver: true });
  }

  /** Whether the UIDs of the destination mean what they meant when the batch began. */
  protected async isAsBefore(batch: Batch, to: Destination): Promise<boolean> {
    return (
      to.uidValidity === batch.destinationValidity && (await this.context.folders.open(to.generation)) === undefined
    );
  }

  /** How it is written down that a batch is over. */
  protected closing(batch: Batch, done: readonly BatchMember[], to: Destination): Close {
    const brought = done.reduce((most, { arrived }) => Math.max(most, arrived), 0);
    if (brought > 0) this.context.destinations.broughtUpTo(to, brought);
    // The UIDs are of the destination as it is now, whatever becomes of it before this is written.
    const place = { ...to };
    return async (client) => {
      await this.bring(client, done, place);
      await closeBatch(client, this.context.account.id, this.context.run.id, batch, byUid(done));
    };
  }

  protected written(close: Close): Promise<void> {
    return this.context.fenced(async (client) => {
      await close(client);
      await this.context.announce(client);
    });
  }

  protected async bring(client: Queryable, members: readonly BatchMember[], to: Destination): Promise<void> {
    const moves = members.map(({ id, arrived }) => ({ id, uid: arrived }));
    const trashedBy = this.context.run.action === 'restore' ? null : this.context.run.id;
    await movePlacements(
      client,
      this.context.account.id,
      moves,
      { folder: to.folder.id, generation: to.generation },
      trashedBy,
    );
  }

  /**
   * Which of these came to the destination since the batch began, and under which UIDs. Of messages that are alike the
   * first ones are taken to have come.
   *
   * @param known members that have come already.
   */
  protected async arrived(
    batch: Batch,
    to: Destination,
    members: readonly BatchMember[],
    known: readonly BatchMember[] = [],
  ): Promise<BatchMember[]> {
    if (members.length === 0) return [];
    const taken = new Set(known.map(({ arrived }) => arrived));
    const ids = members.map(({ id }) => id);
    const wanted = await identitiesOf(this.context.database, this.context.account.id, ids);
    const identities = new Map(wanted.map((identity) => [identity.id, identity]));
    const inOrder = ids.flatMap((id) => identities.get(id) ?? []);
    const byId = new Map(members.map((member) => [member.id, member]));
    let pairs: { id: number; uid: number }[] = [];
    for await (const newcomers of this.newcomers(batch, to)) {
      pairs = pairByIdentity(
        inOrder,
        newcomers.filter(({ uid }) => !taken.has(uid)),
      );
      if (pairs.length === inOrder.length) break;
    }
    return pairs.map(({ id, uid }) => ({ ...(byId.get(id) as BatchMember), arrived: uid }));
  }

  /** Members that have come, together with those of others that have: by the UIDs of one and the same UIDVALIDITY. */
  protected async withArrived(
    batch: Batch,
    to: Destination,
    members: readonly BatchMember[],
    known: readonly BatchMember[],
  ): Promise<BatchMember[]> {
    const { uidValidity } = to;
    const found = await this.arrived(batch, to, members, known);
    if (to.uidValidity === uidValidity) return [...known, ...found];
    // The destination changed just now: what was known of it is looked for like the rest.
    return this.arrived(batch, to, [...known, ...members]);
  }

  /**
   * What the destination holds that was not there when the batch began, and that no other batch of the run brought. One
   * answer that something did not come is not enough: who misses something reads on, and gets what another answer tells.
   */
  private async *newcomers(batch: Batch, to: Destination): AsyncGenerator<Newcomer[]> {
    const { database, account, server } = this.context;
    const changed =
      to.uidValidity !== batch.destinationValidity || (await this.context.folders.open(to.generation)) === 'changed';
    if (changed) {
      // Its UIDs mean nothing any more: what the index did not know before is what came.
      const generation = await this.context.folders.follow(to.generation);
      Object.assign(to, await this.context.destinations.get(to.folder.id));
      if (generation !== undefined)
        yield await freshIdentitiesIn(database, account.id, generation, this.context.run.freshFrom ?? 0);
      return;
    }
    const from = batch.destinationUidNext ?? 1;
    const taken = await broughtUids(database, account.id, to.generation, from, this.context.run.id);
    const searched = difference(await server.uids([[from, MAX_UID]]), taken);
    const records = await this.recordsOf(to.generation, searched);
    yield records;
    const untold = difference(difference(await server.uidsOneByOne(from), taken), searched);
    if (untold.length > 0) yield [...records, ...(await this.recordsOf(to.generation, untold))];
  }

  /** What the server tells of messages of the open folder; of one that can't be read its size and its date. */
  private async recordsOf(generation: number, uids: Ranges): Promise<MessageRecord[]> {
    const { server } = this.context;
    const records: MessageRecord[] = [];
    let missing = uids;
    // What did not come is asked for once more, before it is taken for what can't be read.
    for (const ask of [server.metadata, server.metadata, server.bareMetadata]) {
      if (missing.length === 0) break;
      for await (const read of ask.call(server, missing)) for (const record of read) records.push(record);
      missing = difference(uids, rangesOf(records.map(({ uid }) => uid)));
    }
    if (missing.length > 0 && (await this.standing(generation, missing)).size > 0)
      throw new MailProblem(
        'unreadable-answer',
        'The server says nothing of some messages that came into a folder, so Tamsel can’t tell which they are.',
      );
    return records;
  }

  protected destinationOf(batch: Batch): Promise<Destination> {
    return this.context.destinations.get(batch.destination as number);
  }

  protected async advance(batch: Batch): Promise<Batch> {
    await this.context.fenced((client) => advanceBatch(client, this.context.account.id, this.context.run.id, batch));
    return batch;
  }

  /** Leaves members that are nowhere where they were looked for, and says whether the folder is gone with them. */
  async markVanished(generation: number, members: readonly { id: number; uid: number }[]): Promise<void> {
    if (members.length === 0) return;
    const reason = await this.context.folders.open(generation, true);
    // One answer that they are gone is not enough: each is asked for by itself.
    if (reason === undefined || reason === 'read-only')
      for await (const there of this.context.server.flags(rangesOf(members.map(({ uid }) => uid))))
        if (there.length > 0)
          throw new MailProblem(
            'unreadable-answer',
            'The server’s answers contradict each other: one says that some messages are gone, another that they exist. Tamsel removed nothing from its index.',
          );
    const gone = reason === 'folder-gone';
    const ids = members.map(({ id }) => id);
    await this.context.fenced(async (client) => {
      await losePlacements(client, this.context.account.id, ids);
      await leave(client, this.context.account.id, this.context.run.id, gone ? 'folder-gone' : 'vanished', ids);
      await this.context.announce(client);
    });
  }
}

/** The members that COPYUID told the new UIDs of. One of another UIDVALIDITY than we know says nothing. */
export function membersFromCopyUid(batch: Batch, moved: Moved, to: Destination): BatchMember[] {
  if (!moved || moved.uidValidity !== to.uidValidity) return [];
  return batch.members.flatMap((member) => {
    const arrived = moved.uids.get(member.uid);
    return arrived === undefined ? [] : [{ ...member, arrived }];
  });
}

export function without(members: readonly BatchMember[], others: readonly BatchMember[]): BatchMember[] {
  const ids = new Set(others.map(({ id }) => id));
  return members.filter(({ id }) => !ids.has(id));
}

export function byUid(members: readonly BatchMember[]): BatchMember[] {
  return [...members].sort((a, b) => a.uid - b.uid);
}
