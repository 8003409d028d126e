import type { Ranges } from '../../../core/sets/ranges';
import type { Batch, BatchMethod } from '../../../store/runs/batches';
import { CopyStrategy } from './copy-strategy';
import { ExpungeStrategy } from './expunge-strategy';
import { MoveStrategy } from './move-strategy';
import type { Answered, BatchContext, BatchStrategy } from './strategy';

/** Carries out the batches of a run on one connection, each by the strategy of its method. */
export class BatchExecutor {
  private readonly strategies: Record<BatchMethod, BatchStrategy>;

  constructor(private readonly context: BatchContext) {
    const expunge = new ExpungeStrategy(context);
    this.strategies = {
      move: new MoveStrategy(context),
      copy: new CopyStrategy(context),
      expunge,
      'hand-over': expunge,
    };
  }

  /** Sends a batch that was just written down; see BatchStrategy. */
  send(batch: Batch, sources: Ranges): Promise<Answered> {
    return this.strategies[batch.method].send(batch, sources);
  }

  /** Carries a batch that may have been sent to its end, and sets the marks again that were lifted for it. */
  async recover(batch: Batch): Promise<void> {
    const { folders, server } = this.context;
    if (batch.lifted && (await folders.open(batch.lifted.generation)) === undefined)
      await server.markDeleted(batch.lifted.uids, true);
    await this.strategies[batch.method].recover(batch);
  }

  /** Leaves members that are nowhere where they were looked for, and says whether the folder is gone with them. */
  markVanished(generation: number, members: readonly { id: number; uid: number }[]): Promise<void> {
    return this.strategies.move.markVanished(generation, members);
  }
}
