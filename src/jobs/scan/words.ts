import { transaction } from '../../store/database';
import { holdLease, type Job } from '../../store/jobs';
import { indexWords, sortWords } from '../../store/words';
import type { WorkContext } from '../context';

/** Indexes the words of all messages that are new, behind what the user waits for; goes on where it was. */
export async function indexAllWords({ database, worker }: WorkContext, job: Job): Promise<void> {
  const next = () =>
    transaction(database, async (client) => {
      await holdLease(client, job, worker);
      return indexWords(client, job.account);
    });
  let wasAny = false;
  while (await next()) wasAny = true;
  if (wasAny) await sortWords(database);
}
