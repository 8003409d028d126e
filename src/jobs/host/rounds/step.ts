import { now as clockNow } from '../../../clock/clock';
import { passes } from '../../../mail/problem';
import { accountById, findOrCreateAccount } from '../../../store/access/accounts';
import { canSignIn, saveSecret } from '../../../store/access/credentials';
import { signOutAll } from '../../../store/access/sessions';
import type { Vault } from '../../../store/access/vault';
import { type Queryable, transaction } from '../../../store/database';
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
import { wayInto } from '../sign-in';
import type { At, Outcome, RoundContext } from './at';
import { beginEmpty, purgeSaved, tryEmpty } from './empty';
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
  const hasStepped = await transaction(context.database, async (client) => {
    const mailbox = await nextUnderWay(client, now);
    const operator = mailbox && (await operatorById(client, mailbox.operator));
    const round = mailbox && (await roundById(client, mailbox.operator, mailbox.round));
    if (!mailbox || !operator || !round) return false;
    const outcome = await nextOf(context, client, operator, round, mailbox, now);
    if ('failed' in outcome) await updateRoundMailbox(client, mailbox, { state: 'failed', problem: outcome.failed });
    else
      await updateRoundMailbox(client, mailbox, {
        ...outcome.change,
        ...(outcome.waitMs === undefined ? {} : { notBefore: new Date(now.getTime() + outcome.waitMs) }),
      });
    // Levels fell.
    if (!('failed' in outcome) && outcome.change.state === 'done' && round.kind !== 'standing')
      await askToMeasure(client, operator, now, [mailbox.mailbox]);
    return true;
  });
  return hasBegun || hasStepped;
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
  const way =
    operator.state === 'active' || place.hasPassword
      ? await wayInto({ database: client, vault }, operator, place)
      : undefined;
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
  if (!(await canSignIn(client, vault, account.id))) {
    // What was signed in with another credential, before the host took it no more, is not who has the new one.
    if (account.state === 'locked') await signOutAll(client, account.id);
    await saveSecret(client, vault, account.id, way);
  }
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
  if (mailbox.run === null) {
    if (round.kind === 'standing') return beginStanding(at);
    if (round.kind === 'purge') return beginPurge(at);
    return mailbox.bag === null ? beginEmpty(at) : purgeSaved(at);
  }
  const run = await runById(client, account.id, mailbox.run);
  if (!run) return { failed: { kind: 'internal', detail: 'Its run is gone.' } };
  if (run.state === 'failed' && passes(run.problem?.kind ?? '')) {
    await resume(client, account.id, run.id);
    return { change: { problem: run.problem }, waitMs: LATER_MS };
  }
  const done = { doneMessages: run.done.messages, doneBytes: run.done.bytes };
  if (run.state === 'failed')
    return {
      change: { ...done, state: 'failed', problem: run.problem ?? { kind: 'internal', detail: 'Its run failed.' } },
    };
  return { change: { ...done, state: run.state === 'cancelled' ? 'left' : 'done', problem: null } };
}
