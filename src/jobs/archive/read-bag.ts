import { bagById } from '../../store/archive/bags';
import { tell } from '../../store/events';
import { finishJob, giveWay, type Job } from '../../store/jobs';
import type { Turn, WorkContext } from '../context';
import { fenceOf } from '../fence';
import { readWords } from './read-words';

/** Reads a bag of the archive for its words, behind what anybody waits for. No mail server is asked. */
export async function readBag(context: WorkContext, job: Job, turn: Turn): Promise<void> {
  const { database, archive, worker } = context;
  const fenced = fenceOf(context, job);
  const bag = await bagById(database, job.account, job.subject);
  if (bag?.state === 'done' && bag.place === 'here') {
    const folder = archive.bag(job.account, bag.folder);
    if (!(await readWords(context, job.account, bag, folder, fenced, turn))) return giveWay(database, job, worker);
    await fenced(async (client) => tell(client, job.account, 'bag', await bagById(client, job.account, bag.id)));
  }
  await finishJob(database, job);
}
