import { DiskFull } from '../../archive/bag';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { type Bag, bagById, holdBag, wantedOfBag } from '../../store/archive/bags';
import { holdOfJournal, noteRetained } from '../../store/archive/retention';
import type { Queryable } from '../../store/database';
import { finishJob, type Job } from '../../store/jobs';
import { appendBagEntry } from '../../store/runs/bag-entries';
import type { Turn, WorkContext } from '../context';
import { fenceOf } from '../fence';
import { noticeOfBag } from '../notices';
import { Stopped } from '../stopped';
import { Filling } from './filling';

/** What is said where this machine has no room left. */
export const DISK_FULL = {
  kind: 'disk-full',
  detail: 'There is no room left on the disk of the machine that Tamsel runs on. Make room there, then resume.',
};

/**
 * Saves files or mail into a bag, and leaves the mailbox as it is.
 *
 * @param another signs in once more, for many.
 */
export async function save(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  another: () => Promise<MailServer>,
  turn: Turn,
): Promise<void> {
  const { database } = context;
  const bag = await bagById(database, account.id, job.subject);
  if (!bag) return finishJob(database, job);
  const wanted = () => wantedOfBag(database, account.id, bag.id);
  const filling = new Filling(context, fenceOf(context, job), account, server, another, turn, bag, wanted);
  const end = (state: 'done' | 'paused' | 'cancelled', problem?: typeof DISK_FULL) =>
    filling.end(state, problem, async (client) => {
      if (state === 'done') {
        await noticeOfBag(client, account, (await bagById(client, account.id, bag.id)) as Bag);
        await holdJournal(context, client, account.id, bag.id);
      }
      await finishJob(client, job);
    });
  try {
    await filling.fill();
    await end('done');
    await protectHeld(context, account.id, bag.id);
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

/** Holds a bag of the retention export, once every octet of it was read back. */
async function holdJournal(
  { archive, vault }: WorkContext,
  client: Queryable,
  account: number,
  id: number,
): Promise<void> {
  const hold = await holdOfJournal(client, account, id);
  const bag = hold && (await bagById(client, account, id));
  if (!bag) return;
  await noteRetained(client, account);
  if (bag.saved.files === 0) return;
  const manifest = (await archive.bag(account, bag.folder).manifestDigest()) ?? null;
  await holdBag(client, account, id, hold);
  const { label, saved } = bag;
  await appendBagEntry(client, vault, account, 'bag-held', { bag: id, label, manifest, ...saved, ...hold });
}

/** Whoever is killed before it leaves that to who reads the bag again (jobs/archive/check-bag). */
async function protectHeld({ database, archive }: WorkContext, account: number, id: number): Promise<void> {
  const bag = await bagById(database, account, id);
  if (bag?.heldUntil) await archive.bag(account, bag.folder).protect();
}
