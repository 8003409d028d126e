import { readingOf } from '../../core/repeats/reading';
import { TwinDigesting } from '../../mail/mime/twin-digests';
import { MailProblem } from '../../mail/problem';
import { bySection } from '../../mail/sections';
import type { MailServer, Wanted } from '../../mail/server';
import { withThrottleRetry } from '../../mail/throttle-retry';
import type { Account } from '../../store/access/accounts';
import { tell } from '../../store/events';
import { type Compared, placesOf, saveCompared, type ToCompare, twinCandidates } from '../../store/index/twins';
import { finishJob, isAwaited, type Job } from '../../store/jobs';
import { proofOf, updateProof } from '../../store/plan/proof';
import type { Turn, WorkContext } from '../context';
import { fenceOf } from '../fence';
import { GenerationOpener } from '../open-generation';
import { HelperLost, ReadAhead, type ShareOf, sharesOf } from '../save/read-ahead';

/** Messages that are looked up at a time. */
const PAGE = 4_000;
/** Messages that one connection is asked for at a time; what came of a share is kept at once. */
const SHARE_MESSAGES = 256;
/** Shares from which on more connections than one are worth signing in for. */
const MANY_SHARES = 4;

type MessageShare = ShareOf<ToCompare>;

/**
 * Reads messages that may exist more than once, and keeps what tells whether they do. It reads each once, those from which most could be
 * won first, and no more than was asked for. Killed, it goes on behind what was kept.
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
  const fenced = fenceOf(context, job);
  const asked = await proofOf(database, account.id);
  if (!asked) {
    await fenced((client) => finishJob(client, job));
    return true;
  }
  const server = withThrottleRetry(first, async () => undefined);
  const opener = new GenerationOpener(database, account.id);
  const ahead = new ReadAhead(server, another, (one, generation) => opener.isThere(one, generation));
  const candidates = await twinCandidates(database, account);
  const left = asked.budget - asked.done.bytes;
  const reading = left > 0 ? readingOf(candidates.groups, candidates, left) : { messages: [], bytes: 0 };
  const done = { ...asked.done };
  const total = { messages: done.messages + reading.messages.length, bytes: done.bytes + reading.bytes };
  const write = (change: Parameters<typeof updateProof>[2], compared: readonly Compared[] = []) =>
    fenced(async (client) => {
      if (compared.length > 0) {
        await saveCompared(client, account.id, compared);
        await turn.progressed(client);
      }
      await tell(client, account.id, 'repeats', await updateProof(client, account.id, change));
    });
  await write({ state: 'running', total, problem: null });
  try {
    for (let at = 0; at < reading.messages.length; at += PAGE) {
      const wanted = reading.messages.slice(at, at + PAGE);
      const places = await placesOf(database, account.id, wanted);
      const shares = sharesOf(places, wantedOf, SHARE_MESSAGES);
      if (shares.length >= MANY_SHARES) ahead.grow();
      const again: MessageShare[] = [];
      for await (const { share, isThere, pieces } of ahead.each(shares)) {
        const found = await compared(share, isThere, pieces);
        if (!found) again.push(share);
        else await keep(share, found);
        if (await isAwaited(database, account.id)) return false;
      }
      for (const share of again) {
        const isThere = await opener.isThere(server, share.generation);
        const found = await compared(share, isThere, server.downloads(share.wanted));
        if (!found) throw new MailProblem('connection-lost', 'The mail server closed the connection.');
        await keep(share, found);
      }
    }
  } finally {
    await ahead.close();
  }
  await fenced(async (client) => {
    await tell(client, account.id, 'repeats', await updateProof(client, account.id, { state: 'done', attempts: 0 }));
    await finishJob(client, job);
  });
  return true;

  async function keep(share: MessageShare, found: readonly Compared[]): Promise<void> {
    done.messages += share.items.length;
    done.bytes += share.items.reduce((sum, { size }) => sum + size, 0);
    await write({ done, attempts: 0 }, found);
  }
}

/** Reads the messages of a share; undefined where its connection was lost, and can be done without. */
async function compared(
  share: MessageShare,
  isThere: boolean,
  pieces: ReturnType<MailServer['downloads']>,
): Promise<Compared[] | undefined> {
  // The next scan finds out what became of them.
  if (!isThere) return [];
  const found: Compared[] = [];
  try {
    for await (const { of, octets } of bySection(pieces)) {
      const one = share.items[of] as ToCompare;
      const result = await digestsOf(one, octets);
      if (result) found.push(result);
    }
  } catch (error) {
    if (error instanceof HelperLost) return undefined;
    throw error;
  }
  return found;
}

async function digestsOf({ message, size }: ToCompare, octets: AsyncIterable<Buffer>): Promise<Compared | undefined> {
  const digesting = new TwinDigesting();
  let length = 0;
  try {
    for await (const piece of octets) {
      length += piece.length;
      digesting.add(piece);
    }
  } catch (error) {
    if (!(error instanceof MailProblem)) throw error;
    if (error.kind === 'message-gone') return undefined;
    if (error.kind !== 'command-refused') throw error;
    return { message, twin: null, octets: null, kept: null };
  }
  // What is not as long as the server said of it was cut off, or is another: it proves nothing.
  if (length !== size) return { message, twin: null, octets: null, kept: null };
  const { octets: whole, kept, content } = digesting.end();
  return { message, twin: content ?? kept ?? whole, octets: whole, kept };
}

/** A whole message; one octet more shows that it is longer than was said. */
function wantedOf({ uid, size }: ToCompare): Wanted {
  return { uid, section: '', expected: size, most: size + 1 };
}
