import { DiskFull } from '../../archive/bag';
import { Unreadable } from '../../archive/brought/unreadable';
import type { Account } from '../../store/access/accounts';
import { bagById, wantedOfBag } from '../../store/archive/bags';
import { broughtOf, forgetBrought } from '../../store/archive/brought';
import { tell } from '../../store/events';
import { finishJob, giveWay, type Job } from '../../store/jobs';
import type { Turn, WorkContext } from '../context';
import { fenceOf } from '../fence';
import { noticeOfBag } from '../notices';
import { DISK_FULL } from '../save/save';
import { indexAllWords } from '../scan/index-words';
import { Stopped } from '../stopped';
import { BringingIn, GivesWay } from './bringing-in';

/** Brings mail that was saved elsewhere into the archive, behind what the account waits for. No mail server is asked. */
export async function bringIn(context: WorkContext, job: Job, account: Account, turn: Turn): Promise<void> {
  const { database, archive, worker } = context;
  const bag = await bagById(database, account.id, job.subject);
  const brought = bag && (await broughtOf(database, account.id, bag.id));
  if (!bag || !brought) return finishJob(database, job);
  const fenced = fenceOf(context, job);
  const wanted = () => wantedOfBag(database, account.id, bag.id);
  const work = new BringingIn(context, fenced, account, turn, bag, wanted, brought);
  const upload = archive.upload(account.id, bag.folder);
  const rest = (state: 'paused' | 'failed', problem?: { kind: string; detail: string }) =>
    work.end(state, problem ?? null, (client) => finishJob(client, job));
  try {
    // Who was killed behind the end has only what comes behind it to do.
    if (bag.state !== 'done') {
      await work.fill();
      await work.end('done', null, async (client) => {
        const now = await bagById(client, account.id, bag.id);
        if (now) await noticeOfBag(client, account, now);
        await tell(client, account.id, 'level', {});
      });
    }
    await upload.erase();
    await indexAllWords(context, job);
    await finishJob(database, job);
  } catch (error) {
    if (error instanceof GivesWay) await giveWay(database, job, worker);
    else if (error instanceof DiskFull) await rest('paused', DISK_FULL);
    else if (error instanceof Unreadable) await rest('failed', { kind: error.kind, detail: error.message });
    else if (!(error instanceof Stopped)) throw error;
    else if (error.wanted === 'pause') await rest('paused');
    else {
      await work.drop();
      await upload.erase();
      await work.end('cancelled', null, async (client) => {
        await forgetBrought(client, account.id, bag.id);
        await finishJob(client, job);
      });
    }
  }
}
