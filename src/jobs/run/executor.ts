import { FLAG_BITS } from '../../core/mailbox/flags';
import type { MessageRecord } from '../../core/mailbox/record';
import { difference, numbersOf, type Ranges, rangesOf } from '../../core/sets/ranges';
import { MailProblem } from '../../mail/problem';
import type { MailServer, Moved } from '../../mail/server';
import type { Account } from '../../store/accounts';
import { advanceBatch, type Batch, type BatchMember, closeBatch } from '../../store/batches';
import type { Database, Queryable } from '../../store/database';
import { leave, moveSource } from '../../store/frozen';
import {
  broughtUids,
  freshIdentitiesIn,
  type Identity,
  identitiesOf,
  losePlacements,
  movePlacements,
  placementsById,
  purgePlacements,
} from '../../store/moves';
import { type LeftReason, type Run, updateRun } from '../../store/runs';
import type { Destination, Destinations } from './destinations';
import type { Folders } from './folders';
import { pairByIdentity } from './identity';

/** How often expunging is tried before what stays is left. */
const MOST_EXPUNGES = 3;

/** Writes in a transaction that a batch is over. */
export type Close = (client: Queryable) => Promise<void>;

/** What became of a batch that was sent. */
export interface Answered {
  /** How its end is written down; undefined where it is already. */
  close?: Close;
  /** Where the server did not tell all: finds out the rest. Nothing else may be under way meanwhile. */
  settle?: () => Promise<void>;
}

/**
 * Carries one batch through its commands, and settles one whose fate is unknown.
 *
 * How far a batch is stands in the tables before the next command is sent, so that whoever takes it up knows what may
 * have happened, and asks the server which of it did. What is done is only what the server says afterwards.
 */
export class BatchExecutor {
  /** Whether it is known what the server does with what is expunged outside the trash. */
  probed: boolean;

  constructor(
    private readonly database: Database,
    private readonly account: Account,
    private readonly server: MailServer,
    private readonly run: Run,
    private readonly folders: Folders,
    private readonly destinations: Destinations,
    private readonly fenced: <T>(act: (client: Queryable) => Promise<T>) => Promise<T>,
    private readonly announce: (client: Queryable) => Promise<void>,
  ) {
    this.probed = run.handsOver;
  }

  /**
   * Sends what a batch that was just written down is for. The folder of its source is open.
   *
   * @param sources its UIDs, maybe as ranges over UIDs that stand for no message.
   * @returns how its end is written down, which may be while the server goes on.
   */
  async send(batch: Batch, sources: Ranges): Promise<Answered> {
    switch (batch.method) {
      case 'move': {
        const to = await this.destinationOf(batch);
        const moved = await this.server.move(sources, to.folder.serverName, batch.members.length);
        const known = membersFromCopyUid(batch, moved, to);
        if (known.length === batch.members.length) return { close: this.closing(batch, known, to) };
        // The server did not tell all: look what is still there, and find the rest by identity.
        return { settle: () => this.settle(batch, known) };
      }
      case 'copy': {
        const to = await this.destinationOf(batch);
        const copied = membersFromCopyUid(
          batch,
          await this.server.copy(sources, to.folder.serverName, batch.members.length),
          to,
        );
        if (copied.length === batch.members.length) {
          const known = await this.advance({ ...batch, state: 'copied', members: copied });
          await this.expungeCopied(known, to);
        } else await this.settle(batch, copied);
        return {};
      }
      case 'expunge':
      case 'hand-over': {
        await this.server.markDeleted(sources, true);
        // Before the expunge others may have taken some away: these were not purged by us.
        const there = new Set(numbersOf(await this.server.uids(sources)));
        const present = batch.members.filter(({ uid }) => there.has(uid));
        const purging = batch.method === 'expunge';
        const marked = await this.advance({ ...batch, state: 'marked', members: purging ? present : batch.members });
        if (purging) await this.markVanished(batch.generation, without(batch.members, present));
        await this.expungeOnly(marked, marked.generation, marked.members);
        this.probed = true;
        const close = await this.closingExpunged(marked);
        return close ? { close } : {};
      }
    }
  }

  /** Finds out what became of a batch whose answer never came, or did not say all, and carries it to its end. */
  async settle(batch: Batch, known: readonly BatchMember[] = []): Promise<void> {
    if (batch.lifted && (await this.folders.open(batch.lifted.generation)) === undefined)
      await this.server.markDeleted(batch.lifted.uids, true);
    if (batch.method === 'expunge' || batch.method === 'hand-over') {
      const close = await this.closingExpunged(batch);
      if (close) await this.written(close);
      return;
    }
    const { batch: here, still } = await this.locateAtSource(batch);
    const to = await this.destinationOf(here);
    if (here.method === 'move') {
      // A MOVE leaves nothing behind, so only what is gone from the source can have arrived.
      const have = new Set(known.map(({ id }) => id));
      const lost = here.members.filter(({ id }) => !have.has(id) && !still.has(id));
      const found = await this.withArrived(here, to, lost, known);
      await this.written(this.closing(here, found, to));
      await this.markVanished(here.generation, without([...known, ...lost], found));
      return;
    }
    const copies =
      here.state === 'copied' ? await this.stillCopied(here, to) : await this.copies(here, to, known, still);
    const gone = without(here.members, copies).filter(({ id }) => !still.has(id));
    const copied = await this.advance({ ...here, state: 'copied', members: copies });
    await this.markVanished(here.generation, gone);
    await this.expungeCopied(copied, to);
  }

  /** Which members are still at the source. Where its UIDVALIDITY changed, the members are known by new UIDs then. */
  private async locateAtSource(batch: Batch): Promise<{ batch: Batch; still: Set<number> }> {
    const reason = await this.folders.open(batch.generation);
    if (reason === 'folder-gone') return { batch, still: new Set() };
    if (reason !== 'changed') {
      const uids = new Set(numbersOf(await this.server.uids(rangesOf(batch.members.map(({ uid }) => uid)))));
      return { batch, still: new Set(batch.members.filter(({ uid }) => uids.has(uid)).map(({ id }) => id)) };
    }
    const generation = await this.folders.follow(batch.generation);
    const now = new Map(
      (
        await placementsById(
          this.database,
          this.account.id,
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

  /** The copies of a batch whose COPY may have been carried out or not. */
  private async copies(
    batch: Batch,
    to: Destination,
    known: readonly BatchMember[],
    still: ReadonlySet<number>,
  ): Promise<BatchMember[]> {
    // Of messages that are alike to the octet, those that are gone from the source come first: they were copied.
    const open = without(batch.members, known);
    const ordered = [...open.filter(({ id }) => !still.has(id)), ...open.filter(({ id }) => still.has(id))];
    return byUid(await this.withArrived(batch, to, ordered, known));
  }

  /** Of copies that were known those that are there now: an original goes only while its copy stands. */
  private async stillCopied(batch: Batch, to: Destination): Promise<BatchMember[]> {
    if (to.uidValidity !== batch.destinationValidity) return this.arrived(batch, to, batch.members);
    const reason = await this.folders.open(to.generation);
    if (reason === 'folder-gone') return [];
    if (reason === 'changed') return this.arrived(batch, to, batch.members);
    const there = new Set(numbersOf(await this.server.uids(rangesOf(batch.members.map(({ arrived }) => arrived)))));
    const standing = batch.members.filter(({ arrived }) => there.has(arrived));
    return byUid(await this.withArrived(batch, to, without(batch.members, standing), standing));
  }

  /** Removes the originals of copies that stand, and closes the batch with what is gone then. */
  private async expungeCopied(copied: Batch, to: Destination): Promise<void> {
    const { batch, rest: originals, reason } = await this.originals(copied);
    let rest = originals;
    if (reason === 'read-only') {
      await this.rollBackCopies(batch, rest, to, reason);
      return;
    }
    let why: LeftReason = 'refused';
    for (let tries = 0; rest.length > 0 && reason === undefined && tries < MOST_EXPUNGES; tries++) {
      const sources = rangesOf(rest.map(({ uid }) => uid));
      try {
        await this.server.markDeleted(sources, true);
        await this.expungeOnly(batch, batch.generation, rest);
      } catch (error) {
        if (!(error instanceof MailProblem) || !['read-only', 'command-refused'].includes(error.kind)) throw error;
        if (error.kind === 'read-only') why = 'read-only';
        break;
      }
      const there = new Set(numbersOf(await this.server.uids(sources)));
      rest = rest.filter(({ uid }) => there.has(uid));
    }
    const stays = reason === undefined ? rest : [];
    if (stays.length > 0) {
      await this.rollBackCopies(batch, stays, to, why);
      return;
    }
    const mayBeDoubled =
      this.run.action === 'trash' && batch.members.length > 0 && (this.run.handsOver || !this.probed);
    const done = mayBeDoubled ? await this.withoutDoubles(batch, to) : batch.members;
    // What is brought back is not expunged into the trash: there is nothing to find out.
    if (this.run.action !== 'trash') this.probed = true;
    await this.written(this.closing(batch, done, to));
    await this.markVanished(batch.generation, without(batch.members, done));
  }

  /** The originals that may still have to go; known by their new UIDs where the folder's UIDVALIDITY changed after the copy. */
  private async originals(
    batch: Batch,
  ): Promise<{ batch: Batch; rest: BatchMember[]; reason: LeftReason | undefined }> {
    const reason = batch.members.length === 0 ? undefined : await this.folders.open(batch.generation);
    if (reason !== 'changed') return { batch, rest: batch.members, reason };
    const { batch: here, still } = await this.locateAtSource(batch);
    return {
      batch: here,
      rest: here.members.filter(({ id }) => still.has(id)),
      reason: await this.folders.open(here.generation),
    };
  }

  /** Takes copies back whose originals the server will not remove, and leaves their messages. */
  private async rollBackCopies(
    batch: Batch,
    stays: readonly BatchMember[],
    to: Destination,
    why: LeftReason,
  ): Promise<void> {
    if ((await this.folders.open(to.generation)) === undefined) {
      const copies = stays.map(({ id, arrived }) => ({ id, uid: arrived, arrived }));
      await this.server.markDeleted(rangesOf(copies.map(({ uid }) => uid)), true);
      await this.expungeOnly(batch, to.generation, copies);
    }
    await this.written(this.closing(batch, without(batch.members, stays), to));
    await this.fenced((client) =>
      leave(
        client,
        this.account.id,
        this.run.id,
        why,
        stays.map(({ id }) => id),
      ),
    );
  }

  /** Expunges members that are marked, and nothing else: without UIDPLUS others' marks are lifted for that moment. */
  private async expungeOnly(batch: Batch, generation: number, among: readonly BatchMember[]): Promise<void> {
    const members = new Set(among.map(({ uid }) => uid));
    if (members.size === 0) return;
    if (this.server.dialect.uidPlus) {
      await this.server.expunge(rangesOf(members));
      return;
    }
    const others = difference(await this.server.deletedUids(), rangesOf(members));
    if (others.length > 0) {
      await this.advance({ ...batch, lifted: { generation, uids: others } });
      await this.server.markDeleted(others, false);
    }
    try {
      await this.server.expungeAll();
    } finally {
      // Where the connection is gone, whoever settles the batch puts them back.
      if (others.length > 0) await this.server.markDeleted(others, true);
    }
    if (others.length > 0) await this.advance({ ...batch, lifted: null });
  }

  /**
   * Closes a batch of marked messages by what is gone. What is still there gets its mark taken off, and is tried again.
   *
   * @returns undefined where the end is written down already.
   */
  private async closingExpunged(batch: Batch): Promise<Close | undefined> {
    const { batch: here, still } = await this.locateAtSource(batch);
    const gone = here.members.filter(({ id }) => !still.has(id));
    await this.unmark(here.members.filter(({ id }) => still.has(id)));
    if (here.state === 'sent' && here.method === 'expunge') {
      // The expunge was never sent: who is gone was taken by others.
      await this.fenced((client) => closeBatch(client, this.account.id, this.run.id, here, []));
      await this.markVanished(here.generation, gone);
      return undefined;
    }
    return this.closingPurged(here, gone);
  }

  /** What a server put into the trash instead of purging it is not done by that: it goes on from there. */
  private async closingPurged(batch: Batch, gone: readonly BatchMember[]): Promise<Close> {
    const to = batch.destination === null ? undefined : await this.destinationOf(batch);
    // Under another UIDVALIDITY all of the trash looks new: nothing in it is taken for what the server has just put there.
    const found = to && (await this.isAsBefore(batch, to)) ? await this.arrived(batch, to, gone) : [];
    // A server that does it does it with all; of a few, another program may have made a copy there.
    const isServers = this.run.handsOver || found.length * 2 > gone.length;
    const handedOver = to?.uidValidity === batch.destinationValidity && isServers ? found : [];
    const purged = without(gone, handedOver);
    // What the server does is to be known before anything else is sent.
    if (handedOver.length > 0) this.run.handsOver = true;
    return async (client) => {
      if (to && handedOver.length > 0) {
        await this.bring(client, handedOver, to);
        await moveSource(
          client,
          this.account.id,
          this.run.id,
          to.folder.id,
          handedOver.map(({ id }) => id),
        );
        await this.noteHandOver(client);
      }
      await purgePlacements(
        client,
        this.account.id,
        purged.map(({ id }) => id),
        this.run.id,
      );
      await closeBatch(client, this.account.id, this.run.id, batch, purged);
    };
  }

  private async noteHandOver(client: Queryable): Promise<void> {
    this.run.handsOver = true;
    await updateRun(client, this.account.id, this.run.id, { handsOver: true });
  }

  /**
   * Looks whether the server has put the originals into the trash besides our copies. Then ours go again. The next batch is
   * copied all the same: it may have been another program that put them there, and an original goes only while a copy stands.
   *
   * @returns the members with the UIDs under which they stay; without those that can't be told there any more.
   */
  private async withoutDoubles(batch: Batch, to: Destination): Promise<BatchMember[]> {
    // Under another UIDVALIDITY nobody can tell our copies from the server's: nothing is removed, and the next batch is looked at.
    if (!(await this.isAsBefore(batch, to))) return this.arrived(batch, to, batch.members);
    const last = Math.max(...batch.members.map(({ arrived }) => arrived));
    const server = await this.arrived({ ...batch, destinationUidNext: last + 1 }, to, batch.members);
    if (to.uidValidity !== batch.destinationValidity) return this.arrived(batch, to, batch.members);
    this.probed = true;
    if (server.length === 0 || (await this.folders.open(to.generation)) !== undefined) return batch.members;
    const now = new Map(server.map((member) => [member.id, member]));
    const doubled = batch.members.filter(({ id }) => now.has(id));
    await this.fenced((client) => this.noteHandOver(client));
    const ours = doubled.map(({ id, arrived }) => ({ id, uid: arrived, arrived }));
    await this.server.markDeleted(rangesOf(ours.map(({ uid }) => uid)), true);
    await this.expungeOnly(batch, to.generation, ours);
    return batch.members.map((member) => now.get(member.id) ?? member);
  }

  /** Whether the UIDs of the destination mean what they meant when the batch began. */
  private async isAsBefore(batch: Batch, to: Destination): Promise<boolean> {
    return to.uidValidity === batch.destinationValidity && (await this.folders.open(to.generation)) === undefined;
  }

  /** Takes \Deleted off again from messages that did not bear it before. */
  private async unmark(members: readonly BatchMember[]): Promise<void> {
    if (members.length === 0) return;
    const placements = await placementsById(
      this.database,
      this.account.id,
      members.map(({ id }) => id),
    );
    const ours = new Set(placements.filter(({ flags }) => (flags & FLAG_BITS.deleted) === 0).map(({ id }) => id));
    const uids = rangesOf(members.filter(({ id }) => ours.has(id)).map(({ uid }) => uid));
    if (uids.length > 0) await this.server.markDeleted(uids, false);
  }

  /** How it is written down that a batch is over. */
  private closing(batch: Batch, done: readonly BatchMember[], to: Destination): Close {
    const brought = done.reduce((most, { arrived }) => Math.max(most, arrived), 0);
    if (brought > 0) this.destinations.broughtUpTo(to, brought);
    // The UIDs are of the destination as it is now, whatever becomes of it before this is written.
    const place = { ...to };
    return async (client) => {
      await this.bring(client, done, place);
      await closeBatch(client, this.account.id, this.run.id, batch, byUid(done));
    };
  }

  private written(close: Close): Promise<void> {
    return this.fenced(async (client) => {
      await close(client);
      await this.announce(client);
    });
  }

  private async bring(client: Queryable, members: readonly BatchMember[], to: Destination): Promise<void> {
    const moves = members.map(({ id, arrived }) => ({ id, uid: arrived }));
    const trashedBy = this.run.action === 'restore' ? null : this.run.id;
    await movePlacements(
      client,
      this.account.id,
      moves,
      { folder: to.folder.id, generation: to.generation },
      trashedBy,
    );
  }

  /** Leaves members that are nowhere where they were looked for, and says whether the folder is gone with them. */
  async markVanished(generation: number, members: readonly { id: number; uid: number }[]): Promise<void> {
    if (members.length === 0) return;
    const reason = await this.folders.open(generation, true);
    // One answer that they are gone is not enough: each is asked for by itself.
    if (reason === undefined || reason === 'read-only')
      for await (const there of this.server.flags(rangesOf(members.map(({ uid }) => uid))))
        if (there.length > 0)
          throw new MailProblem(
            'unreadable-answer',
            'The server says in one answer that some messages are gone, and in another that they are there. Nothing was taken for gone.',
          );
    const gone = reason === 'folder-gone';
    const ids = members.map(({ id }) => id);
    await this.fenced(async (client) => {
      await losePlacements(client, this.account.id, ids);
      await leave(client, this.account.id, this.run.id, gone ? 'folder-gone' : 'vanished', ids);
      await this.announce(client);
    });
  }

  /**
   * Which of these came to the destination since the batch began, and under which UIDs. Of messages that are alike the
   * first ones are taken to have come.
   *
   * @param known members that have come already.
   */
  private async arrived(
    batch: Batch,
    to: Destination,
    members: readonly BatchMember[],
    known: readonly BatchMember[] = [],
  ): Promise<BatchMember[]> {
    if (members.length === 0) return [];
    const taken = new Set(known.map(({ arrived }) => arrived));
    const candidates = (await this.newcomers(batch, to)).filter(({ uid }) => !taken.has(uid));
    const identities = new Map(
      (
        await identitiesOf(
          this.database,
          this.account.id,
          members.map(({ id }) => id),
        )
      ).map((identity) => [identity.id, identity]),
    );
    const wanted = members.flatMap(({ id }) => identities.get(id) ?? []);
    const byId = new Map(members.map((member) => [member.id, member]));
    return pairByIdentity(wanted, candidates).map(({ id, uid }) => ({
      ...(byId.get(id) as BatchMember),
      arrived: uid,
    }));
  }

  /** Members that have come, together with those of others that have: by the UIDs of one and the same UIDVALIDITY. */
  private async withArrived(
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

  /** What the destination holds that was not there when the batch began, and that no other batch of the run brought. */
  private async newcomers(batch: Batch, to: Destination): Promise<(Omit<Identity, 'id'> & { uid: number })[]> {
    const { database, account } = this;
    const changed =
      to.uidValidity !== batch.destinationValidity || (await this.folders.open(to.generation)) === 'changed';
    if (changed) {
      // Its UIDs mean nothing any more: what the index did not know before is what came.
      const generation = await this.folders.follow(to.generation);
      Object.assign(to, await this.destinations.get(to.folder.id));
      return generation === undefined
        ? []
        : freshIdentitiesIn(database, account.id, generation, this.run.freshFrom ?? 0);
    }
    const from = batch.destinationUidNext ?? 1;
    const uids = await this.server.uids([[from, 0xffffffff]]);
    const taken = await broughtUids(database, account.id, to.generation, from, this.run.id);
    const fresh = difference(uids, taken);
    const records: MessageRecord[] = [];
    let missing = fresh;
    // What did not come is asked for once more, before it is taken for what can't be read.
    for (let tries = 0; missing.length > 0 && tries < 2; tries++) {
      for await (const read of this.server.metadata(missing)) for (const record of read) records.push(record);
      missing = difference(fresh, rangesOf(records.map(({ uid }) => uid)));
    }
    return records;
  }

  private destinationOf(batch: Batch): Promise<Destination> {
    return this.destinations.get(batch.destination as number);
  }

  private async advance(batch: Batch): Promise<Batch> {
    await this.fenced((client) => advanceBatch(client, this.account.id, this.run.id, batch));
    return batch;
  }
}

/** The members that COPYUID told the new UIDs of. One of another UIDVALIDITY than we know says nothing. */
function membersFromCopyUid(batch: Batch, moved: Moved, to: Destination): BatchMember[] {
  if (!moved || moved.uidValidity !== to.uidValidity) return [];
  return batch.members.flatMap((member) => {
    const arrived = moved.uids.get(member.uid);
    return arrived === undefined ? [] : [{ ...member, arrived }];
  });
}

function without(members: readonly BatchMember[], others: readonly BatchMember[]): BatchMember[] {
  const ids = new Set(others.map(({ id }) => id));
  return members.filter(({ id }) => !ids.has(id));
}

function byUid(members: readonly BatchMember[]): BatchMember[] {
  return [...members].sort((a, b) => a.uid - b.uid);
}
