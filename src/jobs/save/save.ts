import { DiskFull } from '../../archive/bag';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { type Bag, bagById, wantedOfBag } from '../../store/archive/bags';
import { finishJob, type Job } from '../../store/jobs';
import type { Turn, WorkContext } from '../context';
import { fenceOf } from '../fence';
import { noticeOfBag } from '../notices';
import { Stopped } from './bag-writing';
import { Filling } from './filling';

/** What is said where this machine has no room left. */
export const DISK_FULL = {
  kind: 'disk-full',
  detail: 'There is no room left on the disk of the machine that Tamsel runs on. Make room there, then resume.',
};

/** Saves files or mail into a bag, and leaves the mailbox as it is. */
export async function save(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  turn: Turn,
): Promise<void> {
  const { database } = context;
  const bag = await bagById(database, account.id, job.subject);
  if (!bag) return finishJob(database, job);
  const wanted = () => wantedOfBag(database, account.id, bag.id);
  const filling = new Filling(context, fenceOf(context, job), account, server, turn, bag, wanted);
  const end = (state: 'done' | 'paused' | 'cancelled', problem?: typeof DISK_FULL) =>
    filling.end(state, problem, async (client) => {
      if (state === 'done') await noticeOfBag(client, account, (await bagById(client, account.id, bag.id)) as Bag);
      await finishJob(client, job);
    });
  try {
    await filling.fill();
    await end('done');
  } catch (error) {
    if (error instanceof DiskFull) await end('paused', DISK_FULL);
    else if (!(error instanceof Stopped)) throw error;
    else if (error.wanted === 'pause') await end('paused');
    else {
      await filling.drop();
      await end('cancelled');
    }
  }
}
