import { isIP } from 'node:net';
import { domainToASCII } from 'node:url';
import * as v from 'valibot';
import { readLevel } from '../../jobs/listing';
import { connectImap } from '../../mail/imap/connect';
import { MailProblem, type MailProblemKind } from '../../mail/problem';
import { accountsOfSession, eraseAccount, findOrCreateAccount } from '../../store/accounts';
import { countAttempt, forgiveAttempt } from '../../store/attempts';
import { forgetCredential, saveCredential } from '../../store/credentials';
import { transaction } from '../../store/database';
import { addFirstGuards } from '../../store/guards';
import { enqueue } from '../../store/jobs';
import { openScan } from '../../store/scans';
import { addAccountToSession, createSession, endSession, hashToken } from '../../store/sessions';
import { sessionCookie } from '../cookie';
import { invalid, noSession, Problem } from '../problem';
import { route } from '../route';
import { AccountBrief, SignIn } from '../schemas';

/** Sign-ins that fail within five minutes before one has to wait. */
const MOST_BY_ADDRESS = 30;
const MOST_BY_HOST = 60;

const FIELD_OF: Partial<Record<MailProblemKind, string>> = {
  'no-such-host': 'host',
  'address-not-allowed': 'host',
  refused: 'port',
  'timed-out': 'port',
  'not-imap': 'port',
  'untrusted-certificate': 'host',
  'no-tls': 'security',
  'plain-text-not-allowed': 'security',
  'password-refused': 'password',
};

/** One spelling of a host: lower case, as in DNS, no final dot, address literals in their shortest form. */
function normalisedHost(typed: string): string {
  const bare = typed.replace(/^\[|\]$/g, '').replace(/\.$/, '');
  if (isIP(bare) === 6) return new URL(`http://[${bare}]/`).hostname.slice(1, -1);
  const host = domainToASCII(bare.toLowerCase());
  if (host === '' || !/^[a-z0-9.-]+$/.test(host))
    throw invalid('That is not the name of a server.', [{ field: 'host', expected: 'the name of a server' }]);
  return host;
}

function signInProblem(error: MailProblem): Problem {
  const field = FIELD_OF[error.kind];
  return new Problem(422, error.kind, 'Signing in failed', error.message, field ? [{ field }] : undefined);
}

export const signIn = route({
  method: 'POST',
  path: '/session',
  summary: 'Signs in by signing in to the mailbox, and sets the cookie; with a live session it adds an account.',
  body: SignIn,
  status: 201,
  response: v.object({ account: v.omit(AccountBrief, ['state']) }),
  async handle({ environment, body, clientAddress, tokenHash }) {
    const { database, vault, outgoing } = environment;
    const access = { ...body, host: normalisedHost(body.host) };
    const subjects = [`from ${clientAddress}`, `to ${access.host}`];
    const waits = [
      await countAttempt(database, subjects[0] as string, MOST_BY_ADDRESS),
      await countAttempt(database, subjects[1] as string, MOST_BY_HOST),
    ];
    const wait = Math.max(...waits);
    if (wait > 0) {
      throw new Problem(
        429,
        'too-many-attempts',
        'Too many attempts',
        `Too many sign-ins failed. Try again in ${wait} seconds.`,
        undefined,
        { 'retry-after': `${wait}` },
      );
    }
    const server = await connectImap(access, outgoing).catch((error: unknown) => {
      throw error instanceof MailProblem ? signInProblem(error) : error;
    });
    try {
      const account = await transaction(database, async (client) => {
        const found = await findOrCreateAccount(client, access);
        await addFirstGuards(client, found.id);
        return found;
      });
      await saveCredential(database, account.id, vault.seal(account.id, access.password));
      await readLevel(database, account.id, server);
      await transaction(database, async (client) => {
        const { scan } = await openScan(client, account.id);
        await enqueue(client, account.id, 'scan', scan.id);
      });
      for (const subject of subjects) await forgiveAttempt(database, subject);
      const token = tokenHash ? undefined : await createSession(database);
      await addAccountToSession(database, tokenHash ?? hashToken(token as string), account.id);
      const headers: Record<string, string> = { 'content-type': 'application/json' };
      if (token) headers['set-cookie'] = sessionCookie(environment, token);
      return new Response(JSON.stringify({ account: { id: account.id, user: account.user, host: account.host } }), {
        status: 201,
        headers,
      });
    } catch (error) {
      throw error instanceof MailProblem ? signInProblem(error) : error;
    } finally {
      await server.close();
    }
  },
});

export const showSession = route({
  method: 'GET',
  path: '/session',
  summary: 'The accounts of the session.',
  response: v.object({ accounts: v.array(AccountBrief) }),
  async handle({ environment, tokenHash }) {
    if (!tokenHash) throw noSession();
    const accounts = await accountsOfSession(environment.database, tokenHash);
    return { accounts: accounts.map(({ id, user, host, state }) => ({ id, user, host, state })) };
  },
});

export const signOut = route({
  method: 'DELETE',
  path: '/session',
  summary:
    'Ends the session, and forgets credentials that no other session needs, unless a run is going: then at its end.',
  status: 204,
  async handle({ environment, tokenHash }) {
    if (!tokenHash) throw noSession();
    await transaction(environment.database, async (client) => {
      for (const account of await endSession(client, tokenHash)) await forgetCredential(client, account);
    });
    return new Response(null, { status: 204, headers: { 'set-cookie': sessionCookie(environment, '') } });
  },
});

export const erase = route({
  method: 'DELETE',
  path: '/accounts/{account}',
  summary: 'Erases the index of an account, its ledger and its credentials. The mailbox itself is not touched.',
  status: 204,
  async handle({ environment, account }) {
    await eraseAccount(environment.database, account.id);
  },
});
