import * as v from 'valibot';
import { AccountBrief, OpeningReason, Session, SignedIn, SignIn } from '../../contract/schemas';
import { eraseAccount } from '../../store/access/accounts';
import { forgetCredential } from '../../store/access/credentials';
import { noteProof } from '../../store/access/proofs';
import { endOtherSession, endSession, leaveAccount, sessionsOf } from '../../store/access/sessions';
import { bagsOf } from '../../store/archive/bags';
import { transaction } from '../../store/database';
import { forgetOperators } from '../../store/host/operators';
import { sessionCookie } from '../cookie';
import type { Environment } from '../environment';
import { conflict, invalid, noSession, notFound } from '../problem';
import { wantProof } from '../proof';
import { route } from '../route';
import { shownAccount } from '../shown';
import { admitSignIn, normalised, normalisedUser, proveByPassword, signInWith } from '../sign-in';

export const signIn = route({
  method: 'POST',
  path: '/session',
  session: true,
  summary: 'Signs in to a mailbox and sets the session cookie. Within a session it adds an account.',
  body: SignIn,
  status: 201,
  response: SignedIn,
  async handle(context) {
    const { password, signInAs: typed, reason, ...asked } = context.body;
    const place = normalised(asked);
    const signInAs = normalisedUser(typed ?? '') || undefined;
    const opening = signInAs && signInAs !== place.user ? { by: signInAs, reason: reasonOf(reason) } : undefined;
    await admitSignIn(context, place, signInAs);
    const proof = { password, signInAs };
    return signInWith(context, place, { proof, secret: proof, opening });
  },
});

/** @throws Problem where somebody else signs in and does not say why. */
function reasonOf(typed: string | undefined): string {
  const reason = v.safeParse(OpeningReason, typed ?? '');
  if (reason.success) return reason.output;
  throw invalid('Say why you open this mailbox. Its owner reads it in the ledger.', [
    { field: 'reason', expected: 'a reason of 3 to 500 characters' },
  ]);
}

export const getSession = route({
  method: 'GET',
  path: '/session',
  summary: 'Lists the accounts of the session.',
  response: v.object({ accounts: v.array(AccountBrief) }),
  async handle({ identity }) {
    if (!identity) throw noSession();
    return { accounts: identity.accounts.map(shownAccount) };
  },
});

export const signOut = route({
  method: 'DELETE',
  path: '/session',
  session: true,
  summary: 'Ends the session. Tamsel deletes credentials that no other session, token or active run needs.',
  status: 204,
  async handle({ environment, identity }) {
    const session = identity?.sessionHash;
    if (!session) throw noSession();
    await transaction(environment.database, async (client) => {
      for (const account of await endSession(client, session)) await forgetCredential(client, account);
      await forgetOperators(client);
    });
    return new Response(null, { status: 204, headers: ended(environment) });
  },
});

/** What ends a session in the browser: the cookie goes, and so do columns that were kept (W3C Clear Site Data). */
function ended(environment: Environment): Record<string, string> {
  return { 'set-cookie': sessionCookie(environment, ''), 'clear-site-data': '"cache"' };
}

export const leave = route({
  method: 'DELETE',
  path: '/session/accounts/{account}',
  session: true,
  summary: 'Signs out of one account. Signing out of the last one ends the session.',
  status: 204,
  async handle({ environment, account, identity }) {
    const session = identity?.sessionHash as Buffer;
    const isLast = identity?.accounts.length === 1 && identity.operators.length === 0;
    await transaction(environment.database, async (client) => {
      const orphans = isLast ? await endSession(client, session) : await leaveAccount(client, session, account.id);
      for (const orphan of orphans) await forgetCredential(client, orphan);
    });
    return new Response(null, { status: 204, headers: isLast ? ended(environment) : {} });
  },
});

export const listSessions = route({
  method: 'GET',
  path: '/accounts/{account}/sessions',
  session: true,
  summary: 'Lists the sessions that are signed in to this account.',
  response: v.object({
    sessions: v.array(Session),
  }),
  async handle({ environment, account, identity }) {
    return { sessions: await sessionsOf(environment.database, account.id, identity?.sessionHash as Buffer) };
  },
});

export const endAnother = route({
  method: 'DELETE',
  path: '/accounts/{account}/sessions/{session}',
  session: true,
  summary: 'Signs another session out of this account.',
  status: 204,
  async handle({ environment, account, parameters }) {
    const id = Number(parameters.session);
    const isGone = Number.isSafeInteger(id) && (await endOtherSession(environment.database, account.id, id));
    if (!isGone) throw notFound();
  },
});

export const proveIdentity = route({
  method: 'POST',
  path: '/accounts/{account}/proof',
  session: true,
  summary: 'Confirms your identity with the mailbox password. It is valid for ten minutes.',
  body: v.object({ password: v.pipe(v.string(), v.minLength(1), v.maxLength(1_000)) }),
  status: 204,
  async handle(context) {
    const { account, identity, body, environment } = context;
    const { host, port, security, user, signInAs } = account;
    await proveByPassword(context, { host, port, security, user }, { password: body.password, signInAs });
    await noteProof(environment.database, identity?.sessionHash as Buffer, 'account', account.id);
  },
});

export const erase = route({
  method: 'DELETE',
  path: '/accounts/{account}',
  session: true,
  summary:
    'Erases the index, ledger and credentials of an account. The mailbox itself is not touched. While the archive holds files of it, this is refused.',
  status: 204,
  async handle({ environment, account, identity }) {
    await wantProof(environment.database, environment, identity, account);
    const bags = await bagsOf(environment.database, account.id);
    if (bags.some(({ place, state, saved }) => place === 'here' && state !== 'erased' && saved.files > 0))
      throw conflict(
        'bags-kept',
        'The archive on this machine still holds files that you saved from this mailbox. Delete these sets first.',
      );
    await eraseAccount(environment.database, account.id);
    await environment.archive.forget(account.id);
  },
});
