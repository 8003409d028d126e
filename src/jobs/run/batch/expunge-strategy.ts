import { FLAG_BITS } from '../../../core/mailbox/flags';
import { type Ranges, rangesOf } from '../../../core/sets/ranges';
import { placementsById, purgePlacements } from '../../../store/index/moves';
import { type Batch, type BatchMember, closeBatch } from '../../../store/runs/batches';
import { moveSource } from '../../../store/runs/frozen';
import { type Answered, BatchStrategy, type Close, without } from './strategy';

/** Messages are marked and expunged where they lie: a purge, or the way to the trash of a server that puts there what is expunged. */
export class ExpungeStrategy extends BatchStrategy {
  async send(batch: Batch, sources: Ranges): Promise<Answered> {
    await this.context.server.markDeleted(sources, true);
    // Before the expunge others may have taken some away: these were not purged by us.
    const there = await this.standing(batch.generation, rangesOf(batch.members.map(({ uid }) => uid)), sources);
    const present = batch.members.filter(({ uid }) => there.has(uid));
    const purging = batch.method === 'expunge';
    if (purging) await this.markVanished(batch.generation, without(batch.members, present));
    const marked = await this.advance({ ...batch, state: 'marked', members: purging ? present : batch.members });
    await this.expungeOnly(marked, marked.generation, marked.members);
    this.context.probe.done = true;
    const close = await this.closingExpunged(marked, true);
    return close ? { close } : {};
  }

  async recover(batch: Batch): Promise<void> {
    const close = await this.closingExpunged(batch);
    if (close) await this.written(close);
  }

  /**
   * Closes a batch of marked messages by what is gone. What is still there gets its mark taken off, and is tried again.
   *
   * @returns undefined where the end is written down already.
   */
  private async closingExpunged(batch: Batch, isAnswered = false): Promise<Close | undefined> {
    const { batch: here, still } = await this.locateAtSource(batch, isAnswered);
    const gone = here.members.filter(({ id }) => !still.has(id));
    await this.unmark(here.members.filter(({ id }) => still.has(id)));
    if (here.state === 'sent' && here.method === 'expunge') {
      // The expunge was never sent: who is gone was taken by others.
      await this.context.fenced((client) => closeBatch(client, this.context.account.id, this.context.run.id, here, []));
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
    const isServers = this.context.run.handsOver || found.length * 2 > gone.length;
    const handedOver = to?.uidValidity === batch.destinationValidity && isServers ? found : [];
    const purged = without(gone, handedOver);
    // What the server does is to be known before anything else is sent.
    if (handedOver.length > 0) this.context.run.handsOver = true;
    return async (client) => {
      if (to && handedOver.length > 0) {
        await this.bring(client, handedOver, to);
        await moveSource(
          client,
          this.context.account.id,
          this.context.run.id,
          to.folder.id,
          handedOver.map(({ id }) => id),
        );
        await this.noteHandOver(client);
      }
      await purgePlacements(
        client,
        this.context.account.id,
        purged.map(({ id }) => id),
        this.context.run.id,
      );
      await closeBatch(client, this.context.account.id, this.context.run.id, batch, purged);
    };
  }

  /** Takes \Deleted off again from messages that did not bear it before. */
  private async unmark(members: readonly BatchMember[]): Promise<void> {
    if (members.length === 0) return;
    const placements = await placementsById(
      this.context.database,
      this.context.account.id,
      members.map(({ id }) => id),
    );
    const ours = new Set(placements.filter(({ flags }) => (flags & FLAG_BITS.deleted) === 0).map(({ id }) => id));
    const uids = rangesOf(members.filter(({ id }) => ours.has(id)).map(({ uid }) => uid));
    if (uids.length > 0) await this.context.server.markDeleted(uids, false);
  }
}
