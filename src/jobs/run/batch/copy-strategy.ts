import { type FlagSet, flagChanges, isEmpty } from '../../../core/mailbox/flags';
import { numbersOf, type Ranges, rangesOf } from '../../../core/sets/ranges';
import { MailProblem } from '../../../mail/problem';
import type { Batch, BatchMember } from '../../../store/runs/batches';
import { leave } from '../../../store/runs/frozen';
import { bringsToTrash, type LeftReason } from '../../../store/runs/runs';
import type { Destination } from '../destinations';
import { type Answered, BatchStrategy, byUid, membersFromCopyUid, without } from './strategy';

/** How often expunging is tried before what stays is left. */
const MAX_EXPUNGES = 3;

/** COPY, and then the originals are expunged (RFC 9051 §6.4.7): for servers without MOVE. An original goes only while a copy of it stands. */
export class CopyStrategy extends BatchStrategy {
  async send(batch: Batch, sources: Ranges): Promise<Answered> {
    const to = await this.destinationOf(batch);
    const before = await this.flagsOf(batch.members);
    const copied = membersFromCopyUid(
      batch,
      await this.context.server.copy(sources, to.folder.serverName, batch.members.length),
      to,
    );
    if (copied.length === batch.members.length) {
      const known = await this.advance({ ...batch, state: 'copied', members: copied });
      await this.expungeCopied(known, to, before);
    } else await this.recover(batch, copied);
    return {};
  }

  async recover(batch: Batch, known: readonly BatchMember[] = []): Promise<void> {
    const { batch: here, still } = await this.locateAtSource(batch);
    const to = await this.destinationOf(here);
    const copies =
      here.state === 'copied' ? await this.stillCopied(here, to) : await this.copies(here, to, known, still);
    const gone = without(here.members, copies).filter(({ id }) => !still.has(id));
    // Before it is written that only some were copied: it throws where another answer says that the others exist.
    await this.markVanished(here.generation, gone);
    const copied = await this.advance({ ...here, state: 'copied', members: copies });
    await this.expungeCopied(copied, to);
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
    const reason = await this.context.folders.open(to.generation);
    if (reason === 'folder-gone') return [];
    if (reason === 'changed') return this.arrived(batch, to, batch.members);
    const there = await this.standing(to.generation, rangesOf(batch.members.map(({ arrived }) => arrived)));
    const standing = batch.members.filter(({ arrived }) => there.has(arrived));
    return byUid(await this.withArrived(batch, to, without(batch.members, standing), standing));
  }

  /**
   * Expunges the originals whose copies exist, then closes the batch with those that are gone.
   *
   * @param before flags of the originals right before COPY; if undefined, the flags of the copies are read instead.
   */
  private async expungeCopied(copied: Batch, to: Destination, before?: ReadonlyMap<number, FlagSet>): Promise<void> {
    const { batch, rest: originals, reason } = await this.originals(copied);
    let rest = originals;
    if (reason === 'read-only') {
      await this.rollBackCopies(batch, rest, to, reason);
      return;
    }
    let why: LeftReason = 'refused';
    const last = new Map<number, FlagSet>();
    for (let tries = 0; rest.length > 0 && reason === undefined && tries < MAX_EXPUNGES; tries++) {
      const sources = rangesOf(rest.map(({ uid }) => uid));
      try {
        await this.context.server.markDeleted(sources, true);
        // Flags that another program set after COPY are lost with the original.
        for (const [id, flags] of await this.flagsOf(rest)) last.set(id, flags);
        await this.expungeOnly(batch, batch.generation, rest);
      } catch (error) {
        if (!(error instanceof MailProblem) || !['read-only', 'command-refused'].includes(error.kind)) throw error;
        if (error.kind === 'read-only') why = 'read-only';
        break;
      }
      const there = new Set(numbersOf(await this.context.server.uids(sources)));
      rest = rest.filter(({ uid }) => there.has(uid));
    }
    const stays = reason === undefined ? rest : [];
    if (stays.length > 0) {
      await this.rollBackCopies(batch, stays, to, why);
      return;
    }
    await this.carryFlags(batch, to, last, before);
    const mayBeDoubled =
      bringsToTrash(this.context.run) &&
      batch.members.length > 0 &&
      (this.context.run.handsOver || !this.context.probe.done);
    const done = mayBeDoubled ? await this.withoutDoubles(batch, to) : batch.members;
    // What is brought back is not expunged into the trash: there is nothing to find out.
    if (!bringsToTrash(this.context.run)) this.context.probe.done = true;
    await this.written(this.closing(batch, done, to));
    await this.markVanished(batch.generation, without(batch.members, done));
  }

  /** Reads the flags of messages of the open folder, by member. */
  private async flagsOf(members: readonly { id: number; uid: number }[]): Promise<Map<number, FlagSet>> {
    const ids = new Map(members.map(({ id, uid }) => [uid, id]));
    const found = new Map<number, FlagSet>();
    if (members.length === 0) return found;
    for await (const read of this.context.server.flags(rangesOf(ids.keys())))
      for (const record of read) {
        const id = ids.get(record.uid);
        if (id !== undefined) found.set(id, record);
      }
    return found;
  }

  /** Applies to the copies what another program changed on the originals after COPY. */
  private async carryFlags(
    { members }: Batch,
    to: Destination,
    last: ReadonlyMap<number, FlagSet>,
    before?: ReadonlyMap<number, FlagSet>,
  ): Promise<void> {
    const { server, folders } = this.context;
    if (last.size === 0 || (!before && (await folders.open(to.generation)) !== undefined)) return;
    const copied = before ?? (await this.flagsOf(members.map(({ id, arrived }) => ({ id, uid: arrived }))));
    for (const { id, arrived } of members) {
      const [from, now] = [copied.get(id), last.get(id)];
      const changes = from && now && flagChanges(from, now);
      if (!changes || (await folders.open(to.generation)) !== undefined) continue;
      if (!isEmpty(changes.added)) await server.changeFlags([[arrived, arrived]], changes.added, true);
      if (!isEmpty(changes.removed)) await server.changeFlags([[arrived, arrived]], changes.removed, false);
    }
  }

  /** The originals that may still have to go; known by their new UIDs where the folder's UIDVALIDITY changed after the copy. */
  private async originals(
    batch: Batch,
  ): Promise<{ batch: Batch; rest: BatchMember[]; reason: LeftReason | undefined }> {
    const reason = batch.members.length === 0 ? undefined : await this.context.folders.open(batch.generation);
    if (reason !== 'changed') return { batch, rest: batch.members, reason };
    const { batch: here, still } = await this.locateAtSource(batch);
    return {
      batch: here,
      rest: here.members.filter(({ id }) => still.has(id)),
      reason: await this.context.folders.open(here.generation),
    };
  }

  /** Takes copies back whose originals the server will not remove, and leaves their messages. */
  private async rollBackCopies(
    batch: Batch,
    stays: readonly BatchMember[],
    to: Destination,
    why: LeftReason,
  ): Promise<void> {
    if ((await this.context.folders.open(to.generation)) === undefined) {
      const copies = stays.map(({ id, arrived }) => ({ id, uid: arrived, arrived }));
      await this.context.server.markDeleted(rangesOf(copies.map(({ uid }) => uid)), true);
      await this.expungeOnly(batch, to.generation, copies);
    }
    await this.written(this.closing(batch, without(batch.members, stays), to));
    await this.context.fenced((client) =>
      leave(
        client,
        this.context.account.id,
        this.context.run.id,
        why,
        stays.map(({ id }) => id),
      ),
    );
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
    this.context.probe.done = true;
    if (server.length === 0 || (await this.context.folders.open(to.generation)) !== undefined) return batch.members;
    const now = new Map(server.map((member) => [member.id, member]));
    const doubled = batch.members.filter(({ id }) => now.has(id));
    await this.context.fenced((client) => this.noteHandOver(client));
    const ours = doubled.map(({ id, arrived }) => ({ id, uid: arrived, arrived }));
    await this.context.server.markDeleted(rangesOf(ours.map(({ uid }) => uid)), true);
    await this.expungeOnly(batch, to.generation, ours);
    return batch.members.map((member) => now.get(member.id) ?? member);
  }
}
