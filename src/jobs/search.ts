import type { MailServer } from '../mail/server';
import { tell } from '../store/events';
import { type Search, saveFound, searchById, staleFolders, updateSearch } from '../store/index/searches';
import { finishJob, isAwaited, type Job } from '../store/jobs';
import type { Turn, WorkContext } from './context';
import { fenceOf } from './fence';

/**
 * Asks the server for a text in every folder that changed since it was asked last (SEARCH TEXT, RFC 9051 §6.4.4). What
 * was found in a folder is kept at once, so a search that was killed goes on where it was, and between two folders it gives
 * way to a scan or run that waits.
 *
 * @returns whether it is through.
 */
export async function search(context: WorkContext, job: Job, server: MailServer, turn: Turn): Promise<boolean> {
  const { database } = context;
  const fenced = fenceOf(context, job);
  const asked = await searchById(database, job.account, job.subject);
  if (!asked) return true;
  const stale = await staleFolders(database, job.account, job.subject);
  const write = (change: Pick<Search, 'state' | 'folders' | 'problem'>) =>
    fenced(async (client) => {
      await updateSearch(client, job.account, job.subject, change);
      if (change.folders.done > 0) await turn.progressed(client);
      await tell(client, job.account, 'search', { ...asked, ...change });
    });
  for (const [done, folder] of stale.entries()) {
    if (await isAwaited(database, job.account)) return false;
    await write({ state: 'running', folders: { done, total: stale.length }, problem: null });
    const open = await server.open(folder.serverName);
    // Another UIDVALIDITY makes the index out of date, which the next scan mends.
    if (open.uidValidity !== folder.uidValidity) continue;
    const uids = open.messages === 0 ? [] : await server.find(['TEXT', { string: asked.text }]);
    await saveFound(database, job.account, job.subject, folder, uids);
  }
  await write({ state: 'done', folders: { done: stale.length, total: stale.length }, problem: null });
  return true;
}

/** Ends a search that can't go on, and says why; asking again begins where it was. */
export async function failSearch(
  context: WorkContext,
  job: Job,
  problem: { kind: string; detail: string },
): Promise<void> {
  await fenceOf(
    context,
    job,
  )(async (client) => {
    const asked = await searchById(client, job.account, job.subject);
    if (asked) {
      const change = { state: 'failed' as const, folders: asked.folders, problem };
      await updateSearch(client, job.account, job.subject, change);
      await tell(client, job.account, 'search', { ...asked, ...change });
    }
    await finishJob(client, job);
  });
}
