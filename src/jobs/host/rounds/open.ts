import { isPassing } from '../../../mail/problem';
import type { MailServer } from '../../../mail/server';
import type { Account } from '../../../store/access/accounts';
import { tell } from '../../../store/events';
import { noteAdmitted, operatorById } from '../../../store/host/operators';
import { countOpening, openingsOf, updateRoundMailbox } from '../../../store/host/rounds';
import { openScan } from '../../../store/index/scans';
import { enqueue, finishJob, type Job, postponeJob } from '../../../store/jobs';
import { noteOpening } from '../../../store/runs/openings';
import type { WorkContext } from '../../context';
import { fenceOf } from '../../fence';
import { SignInNeeded } from '../../sign-in';
import { countRefusal } from '../refusals';

/** Trouble that passes is tried again, later and later; then the mailbox is left out of the round. */
const RETRY_SECONDS = [2, 10, 60];

/**
 * Opens a mailbox for the rounds that wait for it, now that the host has let Tamsel in: the reason goes into its ledger before anything
 * is read, and a scan begins.
 */
export async function openForRounds(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
): Promise<void> {
  const { uidValidity: inboxValidity } = await server.open('INBOX');
  await fenceOf(
    context,
    job,
  )(async (client) => {
    for (const { reason, ...mailbox } of await openingsOf(client, account.id)) {
      const operator = await operatorById(client, mailbox.operator);
      if (!operator) continue;
      await noteOpening(client, context.vault, account, { by: operator.user, reason, inboxValidity });
      await noteAdmitted(client, operator.id);
      const { scan } = await openScan(client, account.id);
      await enqueue(client, account.id, 'scan', scan.id);
      await updateRoundMailbox(client, mailbox, { state: 'scanning', scan: scan.id, problem: null });
    }
    await finishJob(client, job);
    await tell(client, account.id, 'level', {});
  });
}

/** Leaves a mailbox that could not be opened out of its rounds, or tries again where the trouble passes. */
export async function failOpening(
  context: WorkContext,
  job: Job,
  error: unknown,
  problem: { kind: string; detail: string },
): Promise<void> {
  const isRefused = error instanceof SignInNeeded;
  const told = isRefused
    ? { kind: 'password-refused', detail: 'The mail server does not let you open this mailbox.' }
    : problem;
  const refusedTo = await fenceOf(
    context,
    job,
  )(async (client) => {
    const mailboxes = await openingsOf(client, job.account);
    const tries = Math.max(0, ...(await Promise.all(mailboxes.map((mailbox) => countOpening(client, mailbox)))));
    const wait = isPassing(error) ? RETRY_SECONDS[tries - 1] : undefined;
    for (const mailbox of mailboxes)
      await updateRoundMailbox(client, mailbox, {
        problem: told,
        ...(wait === undefined ? { state: 'failed' as const } : {}),
      });
    if (wait === undefined) await finishJob(client, job);
    else await postponeJob(client, job, context.worker, wait);
    return isRefused ? mailboxes.map(({ operator }) => operator) : [];
  });
  for (const operator of new Set(refusedTo)) await countRefusal(context, operator);
}
