import { DiskFull } from '../../archive/bag';
import { hashOf } from '../../archive/digest';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { type ArchivedCopy, archivedCopies, type Bag, bagById } from '../../store/archive/bags';
import type { Job } from '../../store/jobs';
import { type Run, wantedOf } from '../../store/runs/runs';
import type { Turn, WorkContext } from '../context';
import { fenceOf } from '../fence';
import { Filling } from '../save/filling';
import { DISK_FULL } from '../save/save';
import { Stopped } from '../stopped';

/** Saves the members of a run in a bag, and tells which of them may go: those of which a copy was read back. */
export class Archiver {
  /** @param another signs in once more, for many. */
  constructor(
    private readonly context: WorkContext,
    private readonly job: Job,
    private readonly account: Account,
    private readonly server: MailServer,
    private readonly another: () => Promise<MailServer>,
    private readonly turn: Turn,
    private readonly run: Run,
  ) {}

  /**
   * Fills the run's bag, where it has one that is not done; gives how the run ends, where somebody wants it to stop.
   *
   * @throws DiskFull
   */
  async fill(): Promise<'paused' | 'cancelled' | undefined> {
    const { context, job, account, server, another, turn, run } = this;
    const { database } = context;
    const bag = run.bag === null ? undefined : ((await bagById(database, account.id, run.bag)) as Bag);
    if (!bag || bag.state === 'done') return undefined;
    const wanted = () => wantedOf(database, account.id, run.id);
    const filling = new Filling(context, fenceOf(context, job), account, server, another, turn, bag, wanted);
    try {
      await filling.fill();
      await filling.end('done');
      return undefined;
    } catch (error) {
      if (error instanceof DiskFull) await filling.end('paused', DISK_FULL);
      if (!(error instanceof Stopped)) throw error;
      // Nothing went, so nobody needs what was not read back to its end.
      if (error.wanted === 'cancel') await filling.drop();
      const outcome = error.wanted === 'pause' ? 'paused' : 'cancelled';
      await filling.end(outcome);
      return outcome;
    }
  }

  /** Those of some members that have no copy in the archive. One that the run did not write itself is read once more. */
  async withoutCopy(members: readonly number[]): Promise<number[]> {
    const copies = await archivedCopies(this.context.database, this.account.id, members, this.run.bag);
    const without: number[] = [];
    for (const id of members) {
      const copy = copies.get(id);
      const isSafe = copy !== undefined && (copy.bag === this.run.bag || (await this.isEqual(copy)));
      if (!isSafe) without.push(id);
    }
    return without;
  }

  private async isEqual({ folder, sha256, ...place }: ArchivedCopy): Promise<boolean> {
    const octets = await this.context.archive.bag(this.account.id, folder).message(place);
    return octets !== undefined && (await hashOf(octets)) === sha256;
  }
}
