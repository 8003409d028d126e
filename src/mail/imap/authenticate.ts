import { MailProblem } from '../problem';
import { type Mechanism, passwordMechanism, tokenMechanism } from '../sasl/mechanism';
import type { Access, Credential } from '../server';
import type { SigningIn } from './channel/library';

/** Who signs in by password, and to whose mailbox: authentication and authorization identity (RFC 4422 §2). */
type Identity = { user: string } & Extract<Credential, { password: string }>;

/**
 * Signs in by what the server offers, the best first. With a password: SCRAM-SHA-256 (RFC 7677), with which it does not
 * leave this machine, then SASL PLAIN (RFC 4616), then the command LOGIN where that is not disabled (RFC 9051 §6.2.3), then
 * SASL LOGIN. With an access token: OAUTHBEARER (RFC 7628), then XOAUTH2.
 */
export async function signIn(session: SigningIn, access: Access): Promise<void> {
  try {
    if ('token' in access) await showToken(session, access);
    else await showPassword(session, access, access.host);
  } catch (error) {
    throw asRefusal(error);
  }
}

/** Marks what the server refused as the library marks it. */
function asRefusal(error: unknown): unknown {
  const refusal = error as {
    responseStatus?: string;
    response?: { attributes?: { section?: { value?: string }[] }[] };
    serverResponseCode?: string;
    authenticationFailed?: boolean;
  };
  if (!refusal.responseStatus) return error;
  refusal.authenticationFailed = true;
  refusal.serverResponseCode ??= refusal.response?.attributes?.[0]?.section?.[0]?.value ?? '';
  return error;
}

async function showPassword(session: SigningIn, identity: Identity, host: string): Promise<void> {
  const has = (capability: string) => session.capabilities.has(capability);
  const forAnother = identity.signInAs !== undefined;
  const mechanism = passwordMechanism((name) => has(`AUTH=${name}`), identity, host);
  if (mechanism) return exchange(session, mechanism);
  if (!forAnother && !has('LOGINDISABLED')) return login(session, identity);
  if (!forAnother && has('AUTH=LOGIN')) return saslLogin(session, identity);
  if (offered(session).length > 0)
    throw noMechanism(session, host, forAnother ? 'for somebody else' : 'with a password');
  throw new MailProblem(
    'no-mechanism',
    has('LOGINDISABLED')
      ? `${host} takes no password before the connection is encrypted. Choose STARTTLS, or TLS.`
      : `${host} offers no way to sign in for somebody else.`,
  );
}

async function showToken(session: SigningIn, access: Extract<Access, { token: string }>): Promise<void> {
  const mechanism = tokenMechanism((name) => session.capabilities.has(`AUTH=${name}`), access);
  if (mechanism) return exchange(session, mechanism);
  throw noMechanism(session, access.host, 'with an authorization');
}

function noMechanism(session: SigningIn, host: string, how: string): MailProblem {
  const ways = offered(session);
  const but = ways.length > 0 ? `, but ${ways.join(' and ')}` : '';
  return new MailProblem('no-mechanism', `${host} offers no way to sign in ${how} here${but}.`);
}

function offered(session: SigningIn): string[] {
  return [...session.capabilities].filter((name) => name.startsWith('AUTH=')).map((name) => name.slice(5));
}

async function login(session: SigningIn, { user, password }: Identity): Promise<void> {
  await session.command('LOGIN', [
    { type: 'STRING', value: user },
    { type: 'STRING', value: password, sensitive: true },
  ]);
}

/** Common practice: an expired draft, by which some servers ask for the name and then for the password. */
async function saslLogin(session: SigningIn, { user, password }: Identity): Promise<void> {
  const answers = [user, password];
  const mechanism = { name: 'LOGIN', respond: async () => answers.shift() ?? '', end: () => undefined };
  await exchange(session, mechanism, false);
}

/**
 * AUTHENTICATE: answers each challenge of the server's, both in base64; the first of them, which is empty where the mechanism
 * begins with us, at once where the server lets that (SASL-IR, RFC 4959).
 */
async function exchange(session: SigningIn, mechanism: Mechanism, beginsWithUs = true): Promise<void> {
  const first =
    beginsWithUs && session.capabilities.has('SASL-IR')
      ? [{ type: 'ATOM', value: base64(await mechanism.respond('')), sensitive: true } as const]
      : [];
  await session.command('AUTHENTICATE', [{ type: 'ATOM', value: mechanism.name }, ...first], async (challenge) =>
    base64(await mechanism.respond(Buffer.from(challenge, 'base64').toString('utf8'))),
  );
  mechanism.end();
}

function base64(text: string): string {
  return Buffer.from(text, 'utf8').toString('base64');
}
