import { randomBytes } from 'node:crypto';
import { BadCommand } from './grammar';
import { ScramServer } from './scram';
import { No, type Session } from './session';

/** Sends a challenge and gives what the client answers. */
type Challenge = (text: string) => Promise<Buffer>;

/** Mechanisms of SASL that take a password, and those that take an access token. */
export const PASSWORD_MECHANISMS = ['AUTH=SCRAM-SHA-256', 'AUTH=PLAIN'];
export const TOKEN_MECHANISMS = ['AUTH=OAUTHBEARER', 'AUTH=XOAUTH2'];

/**
 * Signs in by a mechanism of SASL.
 *
 * @param initial what came with the command (RFC 4959), undefined where nothing did.
 */
export async function authenticate(
  session: Session,
  mechanism: string,
  initial: Buffer | undefined,
  challenge: Challenge,
): Promise<void> {
  if (mechanism === 'LOGIN') {
    const user = initial ?? (await challenge('Username:'));
    session.signIn(user.toString('utf8'), (await challenge('Password:')).toString('utf8'));
    return;
  }
  const first = initial ?? (await challenge(''));
  switch (mechanism) {
    case 'SCRAM-SHA-256':
      return scram(session, first, challenge);
    case 'PLAIN': {
      const [authorization = '', user = '', password = ''] = first.toString('utf8').split('\0');
      return session.signIn(user, password, authorization);
    }
    case 'OAUTHBEARER':
    case 'XOAUTH2':
      return bearer(session, mechanism, first.toString('utf8'), challenge);
  }
  throw new No('', 'This is not known here');
}

async function scram(session: Session, first: Buffer, challenge: Challenge): Promise<void> {
  const { salt, faults } = session.host;
  const server = new ScramServer();
  const begun = server.begin(first.toString('utf8'), salt);
  if (begun === undefined) throw new BadCommand('This is no message of SCRAM');
  // Who is not known is refused no sooner than who is (RFC 5802 §9).
  const password = session.host.passwordOf(server.user) ?? randomBytes(16).toString('hex');
  const finished = server.finish((await challenge(begun)).toString('utf8'), salt, password);
  if (finished === undefined) throw new No('AUTHENTICATIONFAILED', 'The name or the password is wrong');
  await challenge(faults.falseProof ? `v=${randomBytes(32).toString('base64')}` : finished);
  session.signIn(server.user, password, server.authorization);
}

async function bearer(
  session: Session,
  mechanism: 'OAUTHBEARER' | 'XOAUTH2',
  first: string,
  challenge: Challenge,
): Promise<void> {
  // Fields end in ^A, and so does the message (RFC 7628 §3.1). XOAUTH2 names the user in a field of its own.
  const [head = '', ...fields] = first.split('\x01');
  const [, named = ''] = (mechanism === 'OAUTHBEARER' ? /^n,a=([^,]+),$/ : /^user=(.+)$/).exec(head) ?? [];
  const token = fields.find((field) => field.startsWith('auth=Bearer '))?.slice('auth=Bearer '.length) ?? '';
  const isWhole = first.endsWith('\x01\x01');
  const info = isWhole ? await session.host.authorization?.tokenInfo(token) : undefined;
  const user = mechanism === 'OAUTHBEARER' ? named.replaceAll('=2C', ',').replaceAll('=3D', '=') : named;
  if (!info || info.user !== user) {
    // RFC 7628 §3.2.2 and §3.2.3: the client answers before it is refused.
    const answer = await challenge(JSON.stringify({ status: 'invalid_token' }));
    if (answer.toString() !== (mechanism === 'OAUTHBEARER' ? '\x01' : '')) throw new BadCommand('That is no answer');
    throw new No('AUTHENTICATIONFAILED', 'This token is not good here');
  }
  session.signInWithToken(info);
}
