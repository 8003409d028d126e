import { READINGS, type Reading } from '../../core/repeats/readings';
import { MailProblem } from '../../mail/problem';
import { bySection } from '../../mail/sections';
import type { MailServer } from '../../mail/server';
import { withThrottleRetry } from '../../mail/throttle-retry';
import type { Account } from '../../store/access/accounts';
import type { Queryable } from '../../store/database';
import { tell } from '../../store/events';
import { finishJob, isAwaited, type Job } from '../../store/jobs';
import { proofOf, updateProof } from '../../store/plan/proof';
import type { Turn, WorkContext } from '../context';
import { fenceOf } from '../fence';
import { GenerationOpener } from '../open-generation';
import { HelperLost, ReadAhead, type ShareOf, sharesOf } from '../save/read-ahead';
import { filesReading } from './files';
import { messagesReading } from './messages';
import { picturesReading } from './pictures';
import type { Kind, Place } from './reading';
import { spacesReading } from './spaces';
import { threadsReading } from './threads';

/** What one connection is asked for at a time; what came of a share is kept at once. */
const SHARE_ITEMS = 256;
/** Shares from which on more connections than one are worth signing in for. */
const MANY_SHARES = 4;

/** The reading that a job is for. */
export function readingOfJob({ subject }: Pick<Job, 'subject'>): Reading {
  const what = READINGS[subject];
  if (!what) throw new Error(`There is no reading ${subject}.`);
  return what;
}

/**
 * Reads what may exist more than once, and keeps what tells whether it does. It reads each once, that first from which most could be won,
 * and no more than was asked for. Killed, it goes on behind what was kept.
 *
 * @param another signs in once more, for many.
 * @returns whether it is through; between two shares it gives way to a scan or run that waits.
 */
export async function prove(
  context: WorkContext,
  job: Job,
  account: Account,
  first: MailServer,
  another: () => Promise<MailServer>,
  turn: Turn,
): Promise<boolean> {
  const { database } = context;
  switch (readingOfJob(job)) {
    case 'messages':
      return read(messagesReading(database, account), context, job, account, first, another, turn);
    case 'files':
      return read(filesReading(database, account), context, job, account, first, another, turn);
    case 'pictures':
      return read(picturesReading(context, account), context, job, account, first, another, turn);
    case 'spaces':
      return read(spacesReading(context, account), context, job, account, first, another, turn);
    case 'threads':
      return read(threadsReading(database, account), context, job, account, first, another, turn);
  }
}

async function read<T extends Place, R>(
  kind: Kind<T, R>,
  context: WorkContext,
  job: Job,
  account: Account,
  first: MailServer,
  another: () => Promise<MailServer>,
  turn: Turn,
): Promise<boolean> {
  const { database } = context;
  const what = readingOfJob(job);
  const fenced = fenceOf(context, job);
  const asked = await proofOf(database, account.id, what);
  if (!asked) {
    await fenced((client) => finishJob(client, job));
    return true;
  }
  const server = withThrottleRetry(first, async () => undefined);
  const opener = new GenerationOpener(database, account.id);
  const ahead = new ReadAhead(server, another, (one, generation) => opener.isThere(one, generation));
  const left = asked.budget - asked.done.bytes;
  const wanted: Awaited<ReturnType<typeof kind.wanted>> = left > 0 ? await kind.wanted(left) : { ids: [], bytes: 0 };
  const { files: others, bytes: otherBytes } = wanted.elsewhere ?? { files: 0, bytes: 0 };
  const done = { ...asked.done };
  const total = {
    messages: done.messages + wanted.ids.length + others,
    bytes: done.bytes + wanted.bytes + otherBytes,
  };
  const write = (change: Parameters<typeof updateProof>[3], keep?: (client: Queryable) => Promise<void>) =>
    fenced(async (client) => {
      if (keep) {
        await keep(client);
        await turn.progressed(client);
      }
      await tell(client, account.id, 'repeats', await updateProof(client, account.id, what, change));
    });
  await write({ state: 'running', total, problem: null });
  try {
    for (const page of kind.pages(wanted.ids)) {
      const shares = sharesOf(await kind.places(page), kind.sectionOf, SHARE_ITEMS);
      if (shares.length >= MANY_SHARES) ahead.grow();
      const again: ShareOf<T>[] = [];
      for await (const { share, isThere, pieces } of ahead.each(shares)) {
        const found = await readShare(kind, share, isThere, pieces);
        if (!found) again.push(share);
        else await keep(share, found);
        if (await isAwaited(database, account.id)) return false;
      }
      for (const share of again) {
        const isThere = await opener.isThere(server, share.generation);
        const found = await readShare(kind, share, isThere, server.downloads(share.wanted));
        if (!found) throw new MailProblem('connection-lost', 'The mail server closed the connection.');
        await keep(share, found);
      }
      const settled = await kind.settle?.(page);
      if (settled) await write({ attempts: 0 }, settled);
    }
    const isThrough = await kind.elsewhere?.(async (bytes, save) => {
      done.messages++;
      done.bytes += bytes;
      await write({ done, attempts: 0 }, save);
      return !(await isAwaited(database, account.id));
    });
    if (isThrough === false) return false;
  } finally {
    await ahead.close();
  }
  await fenced(async (client) => {
    const proof = await updateProof(client, account.id, what, { state: 'done', attempts: 0 });
    await tell(client, account.id, 'repeats', proof);
    await finishJob(client, job);
  });
  return true;

  async function keep(share: ShareOf<T>, found: readonly R[]): Promise<void> {
    done.messages += share.items.length;
    done.bytes += share.items.reduce((sum, { size }) => sum + size, 0);
    await write({ done, attempts: 0 }, found.length > 0 ? (client) => kind.save(client, found) : undefined);
  }
}

/** Reads a share; undefined where its connection was lost, and can be done without. */
async function readShare<T extends Place, R>(
  kind: Kind<T, R>,
  share: ShareOf<T>,
  isThere: boolean,
  pieces: ReturnType<MailServer['downloads']>,
): Promise<R[] | undefined> {
  // The next scan finds out what became of them.
  if (!isThere) return [];
  const found: R[] = [];
  try {
    for await (const { of, octets } of bySection(pieces)) {
      const result = await kind.read(share.items[of] as T, octets);
      if (result) found.push(result);
    }
  } catch (error) {
    if (error instanceof HelperLost) return undefined;
    throw error;
  }
  return found;
}
