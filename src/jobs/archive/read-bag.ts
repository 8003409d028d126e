import type { Account } from '../../store/access/accounts';
import { bagById } from '../../store/archive/bags';
import { tell } from '../../store/events';
import { finishJob, giveWay, type Job } from '../../store/jobs';
import type { Turn, WorkContext } from '../context';
import { fenceOf } from '../fence';
import { checkBag } from './check-bag';
import { readWords } from './read-words';

/** Reads a bag of the archive, for its words and to see whether it is what was saved, behind what anybody waits for. No mail server is asked. */
export async function readBag(context: WorkContext, job: Job, account: Account, turn: Turn): Promise<void> {
  const { database, archive, worker } = context;
  const fenced = fenceOf(context, job);
  const bag = await bagById(database, account.id, job.subject);
  if (bag?.state === 'done' && bag.place === 'here') {
    const folder = archive.bag(account.id, bag.folder);
    const isThrough =
      (await readWords(context, account.id, bag, folder, fenced, turn)) &&
      (await checkBag(context, account, bag, fenced, turn));
    if (!isThrough) return giveWay(database, job, worker);
    await fenced(async (client) => tell(client, account.id, 'bag', await bagById(client, account.id, bag.id)));
  }
  await finishJob(database, job);
}
