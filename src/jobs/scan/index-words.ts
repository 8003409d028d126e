import { indexWords, sortWords } from '../../store/index/word-index';
import type { Job } from '../../store/jobs';
import type { WorkContext } from '../context';
import { fenceOf } from '../fence';

/** Indexes the words of all messages that are new, behind what the user waits for; goes on where it was. */
export async function indexAllWords(context: WorkContext, job: Job): Promise<void> {
  const fenced = fenceOf(context, job);
  const next = () => fenced((client) => indexWords(client, job.account));
  let wasAny = false;
  while (await next()) wasAny = true;
  if (wasAny) await sortWords(context.database);
}
