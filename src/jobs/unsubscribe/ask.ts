import * as clock from '../../clock/clock';
import { discoverSubmission, type SubmissionServer } from '../../mail/discovery/submission';
import { askByOneClick } from '../../mail/one-click';
import { type SendAnswer, sendAs } from '../../mail/send';
import type { Credential } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { tell } from '../../store/events';
import { finishJob, type Job } from '../../store/jobs';
import { type Ask, endAsk, endBroken, takeQueued } from '../../store/plan/asks';
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
    const ask = await fenced((client) => takeQueued(client, account.id));
    if (!ask) break;
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
  await fenced((client) => finishJob(client, job));
}

async function askOne(
  context: WorkContext,
  account: Account,
  { ways, how }: Ask,
  serverOfMail: () => Promise<SubmissionServer | undefined>,
): Promise<SendAnswer> {
  if (how === 'one-click' && ways.oneClick) return askByOneClick(ways.oneClick, context.outbound);
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
