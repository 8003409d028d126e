import type { Ranges } from '../../../core/sets/ranges';
import type { Batch, BatchMember } from '../../../store/runs/batches';
import { type Answered, BatchStrategy, membersFromCopyUid, without } from './strategy';

/** MOVE (RFC 6851): one command, which leaves nothing behind at the source. */
export class MoveStrategy extends BatchStrategy {
  async send(batch: Batch, sources: Ranges): Promise<Answered> {
    const to = await this.destinationOf(batch);
    const moved = await this.context.server.move(sources, to.folder.serverName, batch.members.length);
    const known = membersFromCopyUid(batch, moved, to);
    if (known.length === batch.members.length) return { close: this.closing(batch, known, to) };
    // The server did not tell all: look what is still there, and find the rest by identity.
    return { recover: () => this.recover(batch, known, true) };
  }

  async recover(batch: Batch, known: readonly BatchMember[] = [], isAnswered = false): Promise<void> {
    const { batch: here, still } = await this.locateAtSource(batch, isAnswered);
    const to = await this.destinationOf(here);
    // A MOVE leaves nothing behind, so only what is gone from the source can have arrived.
    const have = new Set(known.map(({ id }) => id));
    const lost = here.members.filter(({ id }) => !have.has(id) && !still.has(id));
    const found = await this.withArrived(here, to, lost, known);
    await this.written(this.closing(here, found, to));
    await this.markVanished(here.generation, without([...known, ...lost], found));
  }
}
