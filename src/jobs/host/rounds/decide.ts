import type { Amount } from '../../../core/level/level';
import { bagById, updateBag } from '../../../store/archive/bags';
import type { Queryable } from '../../../store/database';
import {
  decideRound,
  mailboxesOfRound,
  type Round,
  type RoundMailbox,
  updateRoundMailbox,
} from '../../../store/host/rounds';
import { enqueue } from '../../../store/jobs';
import { dropLot } from '../../../store/plan/lots';
import { deleteStanding, standingById, updateStanding } from '../../../store/plan/standing';
import { runById, updateRun } from '../../../store/runs/runs';
import { resume } from '../../run/resume';

/** What some mailboxes of a round would lose. */
export function amountOf(mailboxes: readonly RoundMailbox[]): Amount {
  return mailboxes.reduce(
    (sum, { messages, bytes }) => ({ messages: sum.messages + messages, bytes: sum.bytes + bytes }),
    { messages: 0, bytes: 0 },
  );
}

/** Carries a round out in some of the mailboxes that are ready; the others are left. In a transaction of the caller's, who locked the round. */
export async function carryOutRound(
  client: Queryable,
  { operator, id }: Round,
  ready: readonly RoundMailbox[],
  chosen: ReadonlySet<number>,
  now: Date,
): Promise<void> {
  for (const mailbox of ready)
    if (chosen.has(mailbox.mailbox)) await updateRoundMailbox(client, mailbox, { state: 'queued', notBefore: now });
    else await leave(client, mailbox);
  await decideRound(client, operator, id, 'working', now);
}

/**
 * Stops a round, in a transaction of the caller's, who locked it: what was not begun is left, runs that are under way are cancelled
 * after their batch, and standing lots that it made do nothing more.
 */
export async function stopRound(client: Queryable, { operator, id }: Round, now: Date): Promise<void> {
  for (const mailbox of await mailboxesOfRound(client, operator, id, { lock: true })) {
    const { account, state, standing } = mailbox;
    if (state === 'working') await cancel(client, mailbox);
    else if (state === 'done' && standing !== null && account !== null) {
      const lot = await standingById(client, account, standing, { lock: true });
      if (lot && lot.state !== 'draft') await updateStanding(client, account, standing, { state: 'off' });
    } else if (state !== 'done' && state !== 'nothing' && state !== 'failed' && state !== 'left')
      await leave(client, mailbox);
  }
  await decideRound(client, operator, id, 'stopped', now);
}

/** Leaves a mailbox as it is, and drops what was made to try it. */
async function leave(client: Queryable, mailbox: RoundMailbox): Promise<void> {
  const { account, lot, standing } = mailbox;
  if (account !== null && lot !== null) await dropLot(client, account, lot);
  if (account !== null && standing !== null) await deleteStanding(client, account, standing);
  await updateRoundMailbox(client, mailbox, { state: 'left', ...(standing === null ? {} : { standing: null }) });
}

async function cancel(client: Queryable, mailbox: RoundMailbox): Promise<void> {
  const { account, run: runId, bag: bagId } = mailbox;
  if (account === null || (runId === null && bagId === null)) return leave(client, mailbox);
  const run = runId === null ? undefined : await runById(client, account, runId);
  if (run) {
    if (run.state === 'queued' || run.state === 'running')
      await updateRun(client, account, run.id, { wanted: 'cancel' });
    // What stands still goes through the worker too: a batch may have to be settled first.
    else if (run.state === 'paused' || run.state === 'failed') await resume(client, account, run.id, 'cancel');
    return;
  }
  const bag = await bagById(client, account, bagId ?? 0);
  if (!bag) return;
  // Who cancels what rests has the work end it, since files have to go.
  const rests = bag.state === 'paused' || bag.state === 'failed';
  if (['queued', 'running', 'checking'].includes(bag.state))
    await updateBag(client, account, bag.id, { wanted: 'cancel' });
  else if (rests) {
    await updateBag(client, account, bag.id, { wanted: 'cancel', state: 'queued', attempts: 0 });
    await enqueue(client, account, 'save', bag.id);
  }
}
