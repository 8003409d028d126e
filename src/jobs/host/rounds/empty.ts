import { bagById, createBag, wholeMessagesIn } from '../../../store/archive/bags';
import { tell } from '../../../store/events';
import { foldersOf } from '../../../store/index/folders';
import { foldersInScope } from '../../../store/index/selection';
import { enqueue } from '../../../store/jobs';
import { amountIn } from '../../../store/plan/lying';
import { freeze } from '../../../store/runs/frozen';
import { overrideGuards } from '../../../store/runs/rewrites';
import { createRun } from '../../../store/runs/runs';
import { begin } from '../../run/begin';
import { type At, askedBy, type Outcome, ready } from './at';

async function everyFolder({ client, account }: At): Promise<number[]> {
  return foldersInScope(await foldersOf(client, account.id), 'all', account.settings.trashFolder);
}

/** Counts everything that is there. */
export async function tryEmpty(at: At): Promise<Outcome> {
  return ready(await amountIn(at.client, at.account.id, await everyFolder(at)), {});
}

/** Saves everything in a bag; every octet of that is read back. */
export async function beginEmpty(at: At): Promise<Outcome> {
  const { client, account, now } = at;
  const files = await wholeMessagesIn(client, account.id, await everyFolder(at));
  const bag = await createBag(client, account.id, {
    label: `Mailbox ${account.user}`,
    form: 'mbox',
    place: 'here',
    folder: `mailbox-${now.toISOString().slice(0, 10)}`,
    files,
  });
  await enqueue(client, account.id, 'save', bag);
  await tell(client, account.id, 'bag', await bagById(client, account.id, bag));
  return { change: { bag } };
}

/** Purges what the bag holds a checked copy of, wherever it lies. What guards keep goes too, for the archive has it; what is held stays. */
export async function purgeSaved(at: At): Promise<Outcome> {
  const { client, vault, account, mailbox, now } = at;
  const bag = await bagById(client, account.id, mailbox.bag ?? 0);
  if (bag?.state !== 'done')
    return {
      failed: bag?.problem ?? { kind: 'cancelled', detail: 'Saving the mailbox was cancelled. Nothing was deleted.' },
    };
  const id = await createRun(client, account.id, {
    action: 'purge',
    label: `Round ${at.round.id}: mailbox emptied`,
    selector: { bag: bag.id, round: at.round.id },
    fallback: null,
    askedBy: askedBy(at),
  });
  const { digest, ...asked } = await freeze(client, account, id, { savedIn: bag.id }, 'all', now);
  const { messages } = await amountIn(client, account.id, await everyFolder(at));
  const tried = { ...mailbox.tried, stays: messages - asked.messages };
  if (asked.messages === 0) {
    await client.query('delete from run where account = $1 and id = $2', [account.id, id]);
    return { failed: { kind: 'nothing-saved', detail: 'No message could be saved, so none was deleted.' } };
  }
  await overrideGuards(client, account.id, id);
  await begin(client, vault, account.id, id, { asked, digest });
  return { change: { run: id, tried } };
}
