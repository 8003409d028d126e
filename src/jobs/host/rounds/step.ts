import { now as clockNow } from '../../../clock/clock';
import { passes } from '../../../mail/problem';
import { accountById, findOrCreateAccount } from '../../../store/access/accounts';
import type { Vault } from '../../../store/access/vault';
import { isDatabaseTrouble, type Queryable, transaction } from '../../../store/database';
import { mailboxById } from '../../../store/host/mailboxes';
import { askToMeasure } from '../../../store/host/measurements';
import { type Operator, operatorById } from '../../../store/host/operators';
import {
  beginRoundMailboxes,
  nextUnderWay,
  type Round,
  type RoundMailbox,
  roundById,
  updateRoundMailbox,
} from '../../../store/host/rounds';
import { scanById } from '../../../store/index/scans';
import { enqueue } from '../../../store/jobs';
import { addFirstGuards } from '../../../store/plan/guards';
import { runById } from '../../../store/runs/runs';
import { PER_HOST } from '../../limits';
import { resume } from '../../run/resume';
import type { At, Outcome, RoundContext } from './at';
import { beginEmpty, purgeSaved, tryEmpty } from './empty';
import { provide, provideFromOperator, wayNow } from './provide';
import { beginPurge, tryPurge } from './purge';
import { beginStanding, tryStanding } from './standing';

/** Mailboxes of one host that rounds have under way: enough to keep its connections busy, and few enough that others get a turn. */
const UNDER_WAY_PER_HOST = 2 * PER_HOST;
/** What needs the server is tried again after so long. */
const LATER_MS = 60_000;

/**
 * Does the next step of one mailbox of one round; whether there was one. Each step is one transaction that also says what the next one
 * is, so that every mailbox is gone through once, wherever a worker dies.
 */
export async function stepRounds(context: RoundContext): Promise<boolean> {
  const now = clockNow();
  const hasBegun = await beginRoundMailboxes(context.database, now, UNDER_WAY_PER_HOST);
  let taken: RoundMailbox | undefined;
  try {
    const hasStepped = await transaction(context.database, async (client) => {
      taken = await nextUnderWay(client, now);
      if (taken) await step(context, client, taken, now);
      return taken !== undefined;
    });
    return hasBegun || hasStepped;
  } catch (error) {
    if (!taken || isDatabaseTrouble(error)) throw error;
    // Else it would be taken again and again, and no other.
    context.log.error({ err: error, ...taken }, 'a mailbox of a round could not go on');
    const problem = { kind: 'internal', detail: 'Something went wrong in Tamsel.' };
    await updateRoundMailbox(context.database, taken, { state: 'failed', problem });
    return true;
  }
}

async function step(context: RoundContext, client: Queryable, mailbox: RoundMailbox, now: Date): Promise<void> {
  const operator = (await operatorById(client, mailbox.operator)) as Operator;
  const round = (await roundById(client, mailbox.operator, mailbox.round)) as Round;
  const outcome = await nextOf(context, client, operator, round, mailbox, now);
  if ('failed' in outcome) return updateRoundMailbox(client, mailbox, { state: 'failed', problem: outcome.failed });
  const { change, waitMs } = outcome;
  const later = waitMs === undefined ? {} : { notBefore: new Date(now.getTime() + waitMs) };
  await updateRoundMailbox(client, mailbox, { ...change, ...later });
  // Levels fell.
  if (change.state === 'done' && round.kind !== 'standing')
    await askToMeasure(client, operator, now, [mailbox.mailbox]);
}

async function nextOf(
  { database, vault }: RoundContext,
  client: Queryable,
  operator: Operator,
  round: Round,
  mailbox: RoundMailbox,
  now: Date,
): Promise<Outcome> {
  if (mailbox.state === 'opening' && mailbox.account === null) return signIn(vault, client, operator, mailbox, now);
  const account = mailbox.account === null ? undefined : await accountById(client, mailbox.account);
  if (!account)
    return { failed: { kind: 'account-gone', detail: 'Tamsel’s data about this mailbox was erased meanwhile.' } };
  const at: At = { database, client, vault, operator, round, mailbox, account, now };
  if (mailbox.state === 'opening') {
    await enqueue(client, account.id, 'open', 0);
    return { change: {} };
  }
  return mailbox.state === 'scanning' ? tried(at) : worked(at);
}

/** Makes the account in which the operator works, and has it opened. */
async function signIn(
  vault: Vault,
  client: Queryable,
  operator: Operator,
  { mailbox }: RoundMailbox,
  now: Date,
): Promise<Outcome> {
  const place = await mailboxById(client, operator.id, mailbox, now);
  if (!place)
    return { failed: { kind: 'mailbox-removed', detail: 'You removed this mailbox from your list meanwhile.' } };
  const way = await wayNow(client, vault, operator, place);
  if (!way)
    return {
      failed: {
        kind: 'sign-in-needed',
        detail: `There is no password for ${place.user}. Sign in again, or enter one.`,
      },
    };
  const { host, port, user } = place;
  const security = way.signInAs === undefined ? place.security : operator.security;
  const account = await findOrCreateAccount(client, { host, port, security, user, signInAs: way.signInAs ?? '' });
  await addFirstGuards(client, account.id);
  await provide(client, vault, account, way);
  await enqueue(client, account.id, 'open', 0);
  return { change: { account: account.id } };
}

/** Tries what was scanned. */
async function tried(at: At): Promise<Outcome> {
  const { client, mailbox, account, round } = at;
  const scan = await scanById(client, account.id, mailbox.scan ?? 0);
  if (scan?.state !== 'done')
    return {
      failed: scan?.problem ?? { kind: 'scan-failed', detail: 'The mailbox could not be scanned.' },
    };
  if (round.kind === 'purge') return tryPurge(at, round.terms);
  if (round.kind === 'empty') return tryEmpty(at);
  return tryStanding(at, round.terms);
}

/** Carries out what the operator decided, and looks at what came of it. */
async function worked(at: At): Promise<Outcome> {
  const { client, mailbox, account, round } = at;
  const isStopped = round.state === 'stopped';
  if (mailbox.run === null) {
    // Its saving may have ended before it heard of that: nothing is deleted after it.
    if (isStopped) return { change: { state: 'left' } };
    // It may have been forgotten while the operator was signed out.
    await provideFromOperator(client, at.vault, account, null, at.now);
    if (round.kind === 'standing') return beginStanding(at);
    if (round.kind === 'purge') return beginPurge(at);
    return mailbox.bag === null ? beginEmpty(at) : purgeSaved(at);
  }
  const run = await runById(client, account.id, mailbox.run);
  if (!run) return { failed: { kind: 'internal', detail: 'Its run is gone.' } };
  if (run.state === 'failed' && passes(run.problem?.kind ?? '')) {
    await resume(client, account.id, run.id, isStopped ? 'cancel' : null);
    return { change: { problem: run.problem }, waitMs: LATER_MS };
  }
  const done = { doneMessages: run.done.messages, doneBytes: run.done.bytes };
  if (run.state === 'failed')
    return {
      change: { ...done, state: 'failed', problem: run.problem ?? { kind: 'internal', detail: 'Its run failed.' } },
    };
  return { change: { ...done, state: run.state === 'cancelled' ? 'left' : 'done', problem: null } };
}
