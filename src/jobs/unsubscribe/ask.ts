import * as clock from '../../clock/clock';
import { isLoopback } from '../../mail/destination';
import { discoverSubmission, type SubmissionServer } from '../../mail/discovery/submission';
import { askByOneClick } from '../../mail/one-click';
import { type SendAnswer, sendAs } from '../../mail/send';
import type { Credential } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { tell } from '../../store/events';
import { finishJob, type Job } from '../../store/jobs';
import { type Ask, endAsk, endBroken, endQueued, lockAsks, takeQueued } from '../../store/plan/asks';
import type { Turn, WorkContext } from '../context';
import { fenceOf } from '../fence';
import { credentialFor, SignInNeeded } from '../sign-in';

/**
 * Asks the senders that a person chose to stop, one after the other. Each is written down as being asked before anything is sent:
 * a worker that dies then leaves it unclear, and nobody is asked twice by itself.
 */
export async function askToStop(context: WorkContext, job: Job, account: Account, turn: Turn): Promise<void> {
  const fenced = fenceOf(context, job);
  await fenced((client) => endBroken(client, account.id, clock.now()));
  let submission: Promise<SubmissionServer | undefined> | undefined;
  const serverOfMail = () => {
    submission ??= discoverSubmission(account.user, account.host, context.outbound);
    return submission;
  };
  for (;;) {
    // Whoever asks for more holds the same lock, so that what comes as the job ends begins another.
    const ask = await fenced(async (client) => {
      await lockAsks(client, account.id);
      const next = await takeQueued(client, account.id);
      if (!next) await finishJob(client, job);
      return next;
    });
    if (!ask) return;
    const answer = await askOne(context, account, ask, serverOfMail);
    const isHeard = answer.outcome === 'taken' || answer.outcome === 'unclear';
    await fenced(async (client) => {
      await endAsk(client, account.id, ask.sender, {
        state: answer.outcome === 'taken' ? 'asked' : answer.outcome === 'unclear' ? 'unclear' : 'failed',
        askedAt: isHeard ? clock.now() : null,
        problem: answer.outcome === 'taken' ? null : { kind: answer.outcome, detail: answer.detail },
      });
      await turn.progressed(client);
      await tell(client, account.id, 'level', {});
    });
    context.log.info({ account: account.id, how: ask.how, outcome: answer.outcome }, 'a sender was asked to stop');
  }
}

/** Asks nobody more of those who wait: somebody has to choose them again. */
export async function failAsks(
  context: WorkContext,
  job: Job,
  problem: { kind: string; detail: string },
): Promise<void> {
  await fenceOf(
    context,
    job,
  )(async (client) => {
    await lockAsks(client, job.account);
    await endBroken(client, job.account, clock.now());
    await endQueued(client, job.account, problem);
    await finishJob(client, job);
    await tell(client, job.account, 'level', {});
  });
}

function isHere(host: string): boolean {
  return host === 'localhost' || isLoopback(host);
}

async function askOne(
  context: WorkContext,
  account: Account,
  { ways, how }: Ask,
  serverOfMail: () => Promise<SubmissionServer | undefined>,
): Promise<SendAnswer> {
  if (how === 'one-click' && ways.oneClick) {
    // Where a mail leads is its sender's to say: to this machine, or its network, only where the mail server is on it too.
    const allowPrivate = context.outbound.allowPrivate && isHere(account.host);
    return askByOneClick(ways.oneClick, { ...context.outbound, allowPrivate });
  }
  if (how !== 'mail' || !ways.mail)
    return { outcome: 'refused', detail: 'It does not say any more how one leaves it.' };
  const server = await serverOfMail();
  if (!server)
    return {
      outcome: 'not-reached',
      detail: 'Tamsel found no server that takes mail of this address. Whoever runs Tamsel can name it.',
    };
  let credential: Credential;
  try {
    credential = await credentialFor(context, account);
  } catch (error) {
    if (!(error instanceof SignInNeeded)) throw error;
    return {
      outcome: 'not-reached',
      detail: 'Tamsel can’t sign in to your mail server. Sign in again, then ask again.',
    };
  }
  if ('signInAs' in credential && credential.signInAs)
    return { outcome: 'refused', detail: 'An operator who looks after a mailbox can’t send mail as its owner.' };
  return sendAs(account.user, server, credential, { ...ways.mail, from: account.user }, context.outbound);
}
