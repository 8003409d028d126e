import { isIP } from 'node:net';
import { domainToASCII } from 'node:url';
import { readLevel } from '../jobs/listing';
import { resumeAfterSignIn } from '../jobs/run/resume';
import { connectImap } from '../mail/imap/connect';
import { MailProblem, type MailProblemKind } from '../mail/problem';
import type { MailboxPlace, MailServer, Proof } from '../mail/server';
import { accountInOtherLetters, findOrCreateAccount } from '../store/accounts';
import { forgiveAttempt } from '../store/attempts';
import { type Secret, saveSecret } from '../store/credentials';
import { transaction } from '../store/database';
import { addFirstGuards } from '../store/guards';
import { enqueue } from '../store/jobs';
import { openScan } from '../store/scans';
import { addAccountToSession, createSession, hashToken, renewSession } from '../store/sessions';
import { admitAttempts } from './attempts';
import { sessionCookie } from './cookie';
import { invalid, Problem } from './problem';
import type { RequestContext } from './route';

/** Sign-ins that fail within five minutes before one has to wait: by who tries, at which host, and for which mailbox. */
const MOST_BY_ADDRESS = 30;
const MOST_BY_HOST = 60;
const MOST_BY_MAILBOX = 8;

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
  'no-mechanism': 'security',
  'server-not-proven': 'host',
};

/** One spelling of where a mailbox is and of whose it is. */
export function normalised({ host, port, security, user }: MailboxPlace): MailboxPlace {
  return { host: normalisedHost(host), port, security, user: normalisedUser(user) };
}

/** Lower case, as in DNS, no final dot, address literals in their shortest form. */
function normalisedHost(typed: string): string {
  const bare = typed.replace(/^\[|\]$/g, '').replace(/\.$/, '');
  if (isIP(bare) === 6) return new URL(`http://[${bare}]/`).hostname.slice(1, -1);
  const host = domainToASCII(bare.toLowerCase());
  if (host === '' || !/^[a-z0-9.-]+$/.test(host))
    throw invalid('That is not the name of a server.', [{ field: 'host', expected: 'the name of a server' }]);
  return host;
}

/** A domain after the @ as in DNS; the rest is the server's to tell apart (RFC 5321 §2.4). */
function normalisedUser(typed: string): string {
  const user = typed.trim().normalize('NFC');
  const at = user.lastIndexOf('@');
  const domain = at > 0 ? domainToASCII(user.slice(at + 1).toLowerCase()) : '';
  return domain === '' ? user : `${user.slice(0, at)}@${domain}`;
}

export function signInProblem(error: unknown): unknown {
  if (!(error instanceof MailProblem)) return error;
  const field = FIELD_OF[error.kind];
  return new Problem(422, error.kind, 'Signing in failed', error.message, field ? [{ field }] : undefined);
}

/** Counts a sign-in. @throws Problem 429 where there were too many. */
export async function admitSignIn({ environment, clientAddress }: RequestContext, place: MailboxPlace): Promise<void> {
  const [from, to, as] = subjectsOf(clientAddress, place);
  await admitAttempts(environment.database, [
    [from, MOST_BY_ADDRESS],
    [to, MOST_BY_HOST],
    [as, MOST_BY_MAILBOX],
  ]);
}

function subjectsOf(clientAddress: string, { host, port, user }: MailboxPlace): [string, string, string] {
  return [`from ${clientAddress}`, `to ${host}`, `as ${user.toLowerCase()} at ${host}:${port}`];
}

/**
 * Signs in by signing in to the mailbox: makes the account where it is new, keeps its credentials, begins a scan, and gives
 * a session of its own, with the accounts of the one before.
 *
 * @returns 201 with the account and the cookie.
 */
export async function signInWith(
  context: RequestContext,
  place: MailboxPlace,
  { proof, secret }: { proof: Proof; secret: Secret },
): Promise<Response> {
  const { environment, clientAddress, identity } = context;
  const { database, vault, outgoing } = environment;
  let server: MailServer | undefined;
  try {
    server = await connectImap({ ...place, ...proof }, outgoing);
    const user = await knownSpelling(context, place, server);
    const account = await transaction(database, async (client) => {
      const found = await findOrCreateAccount(client, { ...place, user });
      await addFirstGuards(client, found.id);
      return found;
    });
    await readLevel(database, account.id, server);
    const token = await transaction(database, async (client) => {
      // Locks the account: credentials are not forgotten between their coming and that of the session that needs them.
      const { scan } = await openScan(client, account.id);
      await enqueue(client, account.id, 'scan', scan.id);
      await saveSecret(client, vault, account.id, secret);
      await resumeAfterSignIn(client, account.id);
      // Nobody goes on with a session that another may have put into this browser.
      const before = identity?.sessionHash;
      const agent = context.request.headers.get('user-agent') ?? '';
      const { sessionLife: life } = environment;
      const made = before ? await renewSession(client, before, life, agent) : await createSession(client, life, agent);
      await addAccountToSession(client, hashToken(made), account.id);
      return made;
    });
    for (const subject of subjectsOf(clientAddress, place)) await forgiveAttempt(database, subject);
    return new Response(JSON.stringify({ account: { id: account.id, user: account.user, host: account.host } }), {
      status: 201,
      headers: { 'content-type': 'application/json', 'set-cookie': sessionCookie(environment, token) },
    });
  } catch (error) {
    throw signInProblem(error);
  } finally {
    await server?.close();
  }
}

/**
 * The spelling under which this mailbox is known already. Servers mostly take a name in any letter case, but need not; so
 * the same name in other letters is the same mailbox where its inbox is the same too (UIDVALIDITY, RFC 9051 §2.3.1.1).
 */
async function knownSpelling(context: RequestContext, place: MailboxPlace, server: MailServer): Promise<string> {
  const other = await accountInOtherLetters(context.environment.database, place);
  if (!other) return place.user;
  const { uidValidity } = await server.open('INBOX');
  return uidValidity === other.inboxValidity ? other.user : place.user;
}
