import { randomBytes } from 'node:crypto';
import { isIP } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import { domainToASCII } from 'node:url';
import { noticeOfSignIn } from '../jobs/notices';
import { resumeAfterSignIn } from '../jobs/run/resume';
import { readLevel } from '../jobs/sync/folder-listing';
import { checkedAddresses } from '../mail/destination';
import { connectImap } from '../mail/imap/connect';
import { MailProblem, type MailProblemKind } from '../mail/problem';
import type { Credential, MailServer, ServerAddress } from '../mail/server';
import {
  type Account,
  accountAt,
  accountsInOtherLetters,
  countAccounts,
  findOrCreateAccount,
} from '../store/access/accounts';
import { forgiveAttempt, type Subject } from '../store/access/attempts';
import { noteBrowser } from '../store/access/browsers';
import { credentialOf, type Secret, saveSecret } from '../store/access/credentials';
import { addAccountToSession, createSession, hashToken, renewSession, signOutAll } from '../store/access/sessions';
import { transaction } from '../store/database';
import { openScan } from '../store/index/scans';
import { enqueue } from '../store/jobs';
import { addFirstGuards } from '../store/plan/guards';
import { noteOpening } from '../store/runs/openings';
import { browserCookie, sessionCookie, tokenHashOf } from './cookie';
import { networkOf } from './network';
import { invalid, Problem } from './problem';
import { takeAttempt } from './rate-limit';
import type { RequestContext } from './route';
import { isSameSecret } from './same';

/** Sign-ins that fail within five minutes before who tries has to wait: for one mailbox, and for all. */
const WINDOW_SECONDS = 300;
const MAX_PER_MAILBOX = 8;
const MAX_PER_NETWORK = 30;
/**
 * Failures for one mailbox from anywhere, after which each further try is answered later: its owner is slowed too, but never
 * locked out by others who fail on purpose.
 */
const BEFORE_SLOWER = 20;
const SLOWER_MS = 200;
const SLOWEST_MS = 6_000;
const DAY_SECONDS = 86_400;

const FIELD_OF: Partial<Record<MailProblemKind, string>> = {
  'no-such-host': 'host',
  'address-not-allowed': 'host',
  'server-not-allowed': 'host',
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
export function normalised({ host, port, security, user }: ServerAddress): ServerAddress {
  return { host: normalisedHost(host), port, security, user: normalisedUser(user) };
}

/** Lower case, as in DNS, no final dot, address literals in their shortest form. */
function normalisedHost(typed: string): string {
  const bare = typed.replace(/^\[|\]$/g, '').replace(/\.$/, '');
  // One with a zone is of a link of this machine, and no name of a server.
  if (isIP(bare) === 6 && !bare.includes('%')) return new URL(`http://[${bare}]/`).hostname.slice(1, -1);
  const host = domainToASCII(bare.toLowerCase());
  if (host === '' || !/^[a-z0-9.-]+$/.test(host))
    throw invalid('That is not the name of a server.', [{ field: 'host', expected: 'the name of a server' }]);
  return host;
}

/** A domain after the @ as in DNS; the rest is the server's to tell apart (RFC 5321 §2.4). */
export function normalisedUser(typed: string): string {
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

/**
 * Counts a sign-in, before anything is asked of the host.
 *
 * @throws Problem 429 where there were too many.
 */
export async function admitSignIn(context: RequestContext, place: ServerAddress, signInAs = ''): Promise<void> {
  const before = await takeAttempt(context.environment.database, await subjectsOf(context, place, signInAs));
  const slower = Math.min(SLOWEST_MS, Math.max(0, (before.at(-1) ?? 0) - BEFORE_SLOWER) * SLOWER_MS);
  if (slower > 0) await sleep(slower);
}

/** Takes back what was counted, since the host let them in. */
export async function forgiveSignIn(context: RequestContext, place: ServerAddress, signInAs = ''): Promise<void> {
  await forgiveAttempt(context.environment.database, await subjectsOf(context, place, signInAs));
}

/** Who is counted when somebody signs in: whoever asks, and as whom they sign in, at the address that the host has. */
async function subjectsOf(
  { environment, clientAddress }: RequestContext,
  { host, port, user }: ServerAddress,
  signInAs: string,
): Promise<Subject[]> {
  // By the address, so that other names of the host are no way around, and by the same one of several, in whatever order DNS gives
  // them; what has none is refused right after this.
  const [address] = (await checkedAddresses(host, environment.outbound).catch(() => [host])).sort();
  const from = networkOf(clientAddress);
  const mailbox = `as ${(signInAs || user).toLowerCase()} at ${address}:${port}`;
  return [
    { name: `from ${from}`, most: MAX_PER_NETWORK, seconds: WINDOW_SECONDS },
    { name: `${mailbox} from ${from}`, most: MAX_PER_MAILBOX, seconds: WINDOW_SECONDS },
    { name: mailbox, seconds: WINDOW_SECONDS },
  ];
}

/** Who opens a mailbox for its owner, and why. */
export interface Opening {
  by: string;
  reason: string;
}

/**
 * Signs in by signing in to the mailbox: makes the account where it is new, keeps its credentials, begins a scan, and gives
 * a session of its own, with the accounts of the one before. An opening is written into the ledger of the mailbox.
 *
 * @returns 201 with the account and the cookie.
 */
export async function signInWith(
  context: RequestContext,
  place: ServerAddress,
  { proof, secret, opening }: { proof: Credential; secret: Secret; opening?: Opening | undefined },
): Promise<Response> {
  const { environment, identity } = context;
  const { database, vault, outbound } = environment;
  let server: MailServer | undefined;
  try {
    server = await connectImap({ ...place, ...proof }, outbound);
    const signInAs = ('password' in proof && proof.signInAs) || '';
    await forgiveSignIn(context, place, signInAs);
    const user = await knownSpelling(context, { ...place, signInAs }, secret, server);
    const account = await accountOf(context, { ...place, user, signInAs });
    await readLevel(database, account.id, server);
    const inboxValidity = opening ? (await server.open('INBOX')).uidValidity : 0;
    const browser = newBrowserToken(context);
    const from = networkOf(context.clientAddress);
    const token = await transaction(database, async (client) => {
      // Locks the account: credentials are not forgotten between their coming and that of the session that needs them.
      const { scan } = await openScan(client, account.id);
      await enqueue(client, account.id, 'scan', scan.id);
      // What was signed in with another credential, before the host took it no more, is not who has the new one.
      if (account.state === 'locked') await signOutAll(client, account.id);
      await saveSecret(client, vault, account.id, secret);
      await resumeAfterSignIn(client, account.id);
      if (opening) await noteOpening(client, vault, account, { ...opening, inboxValidity });
      const browserHash = browser
        ? hashToken(browser)
        : (tokenHashOf(context.request, environment, 'browser') as Buffer);
      if ((await noteBrowser(client, account.id, browserHash)) === 'new') await noticeOfSignIn(client, account, from);
      // Nobody goes on with a session that another may have put into this browser.
      const before = identity?.sessionHash;
      const agent = context.request.headers.get('user-agent') ?? '';
      const { sessionLife: life, limits } = environment;
      const made = before ? await renewSession(client, before, life, agent) : await createSession(client, life, agent);
      await addAccountToSession(client, hashToken(made), account.id, limits.sessionsOfAccount);
      return made;
    });
    environment.log.info({ account: account.id, user: account.user, host: account.host, from }, 'signed in');
    const headers = new Headers({ 'content-type': 'application/json' });
    headers.append('set-cookie', sessionCookie(environment, token));
    if (browser) headers.append('set-cookie', browserCookie(environment, browser));
    const shown = { account: { id: account.id, user: account.user, host: account.host } };
    return new Response(JSON.stringify(shown), { status: 201, headers });
  } catch (error) {
    const kind = error instanceof MailProblem ? error.kind : undefined;
    const from = networkOf(context.clientAddress);
    environment.log.info({ user: place.user, host: place.host, from, problem: kind }, 'a sign-in was refused');
    throw signInProblem(error);
  } finally {
    await server?.close();
  }
}

/** A name for a browser that has none yet. */
function newBrowserToken({ request, environment }: RequestContext): string | undefined {
  return tokenHashOf(request, environment, 'browser') ? undefined : randomBytes(16).toString('base64url');
}

/**
 * Tries a password of a mailbox at its host, and keeps nothing of it. Counted as signing in is.
 *
 * @throws Problem where the host does not take it.
 */
export async function proveByPassword(
  context: RequestContext,
  place: ServerAddress,
  { password, signInAs }: { password: string; signInAs: string },
): Promise<void> {
  await admitSignIn(context, place, signInAs);
  let server: MailServer | undefined;
  try {
    server = await connectImap({ ...place, password, ...(signInAs ? { signInAs } : {}) }, context.environment.outbound);
    await forgiveSignIn(context, place, signInAs);
  } catch (error) {
    throw signInProblem(error);
  } finally {
    await server?.close();
  }
}

/** The account of a mailbox, made where it is new and there is room for it. */
async function accountOf(
  { environment, identity, clientAddress }: RequestContext,
  place: ServerAddress & { signInAs: string },
): Promise<Account> {
  const { database, limits } = environment;
  const known = await accountAt(database, place);
  const isHeld = known && identity?.accounts.some(({ id }) => id === known.id);
  if (!isHeld && (identity?.accounts.length ?? 0) >= limits.accountsOfSession)
    throw new Problem(429, 'too-many-accounts', 'Too many accounts', 'Sign out of another mailbox first.');
  if (!known) {
    const name = `new account from ${networkOf(clientAddress)}`;
    await takeAttempt(database, [{ name, most: limits.newAccountsADay, seconds: DAY_SECONDS }]);
    if ((await countAccounts(database)) >= limits.accounts)
      throw new Problem(
        503,
        'no-room-for-accounts',
        'No room for accounts',
        'This instance has as many mailboxes as its operator allows.',
      );
  }
  return transaction(database, async (client) => {
    const found = await findOrCreateAccount(client, place);
    await addFirstGuards(client, found.id);
    return found;
  });
}

/**
 * The spelling under which this mailbox is known already. Servers mostly take a name in any letter case, but need not; so the
 * same name in other letters is the same mailbox where its inbox is the same too (UIDVALIDITY, RFC 9051 §2.3.1.1), and who
 * signs in knows the password that is kept of it: a validity alone may be that of another's mailbox.
 */
async function knownSpelling(
  { environment: { database, vault } }: RequestContext,
  place: ServerAddress & { signInAs: string },
  secret: Secret,
  server: MailServer,
): Promise<string> {
  const others = await accountsInOtherLetters(database, place);
  if (others.length === 0 || !('password' in secret)) return place.user;
  const { uidValidity } = await server.open('INBOX');
  for (const other of others) {
    if (other.inboxValidity !== uidValidity) continue;
    const kept = (await credentialOf(database, vault, other.id))?.secret;
    if (kept && 'password' in kept && isSameSecret(kept.password, secret.password)) return other.user;
  }
  return place.user;
}
