import { MailProblem } from '../problem';
import type { Credential } from '../server';
import { oauthBearer, xoauth2 } from './bearer';
import { ScramClient, ScramFailure } from './scram';

/** The client's side of one sign-in by SASL (RFC 4422). Messages are plain text here, base64 on the wire. */
export interface Mechanism {
  name: string;
  /** What is said to a challenge; the first is '', since all of these begin with the client. Throws a MailProblem. */
  respond(challenge: string): Promise<string>;
  /** Called once the server says that it went well. Throws a MailProblem where it still owes a proof. */
  end(): void;
}

/** Who signs in by password, and to whose mailbox: authentication and authorization identity (RFC 4422 §2). */
type Identity = { user: string } & Extract<Credential, { password: string }>;

/** What an access token is shown for. */
interface Shown {
  user: string;
  host: string;
  port: number;
  token: string;
}

/**
 * The best way to show a password: SCRAM-SHA-256 (RFC 7677), with which it does not leave this machine, then PLAIN (RFC 4616).
 *
 * @returns undefined where neither is offered.
 */
export function passwordMechanism(
  offers: (mechanism: string) => boolean,
  identity: Identity,
  host: string,
): Mechanism | undefined {
  if (offers('SCRAM-SHA-256')) return scram(identity, host);
  return offers('PLAIN') ? { name: 'PLAIN', respond: async () => plain(identity), end: () => undefined } : undefined;
}

/** The best way to show an access token: OAUTHBEARER (RFC 7628), then XOAUTH2. */
export function tokenMechanism(offers: (mechanism: string) => boolean, shown: Shown): Mechanism | undefined {
  // What the server answers to a token that it refuses is a challenge, which wants an answer (RFC 7628 §3.2.3).
  const showing = (name: string, message: string, afterRefusal: string): Mechanism => ({
    name,
    respond: async (challenge) => (challenge === '' ? message : afterRefusal),
    end: () => undefined,
  });
  if (offers('OAUTHBEARER')) return showing('OAUTHBEARER', oauthBearer(shown), '\x01');
  return offers('XOAUTH2') ? showing('XOAUTH2', xoauth2(shown), '') : undefined;
}

/** The message of PLAIN: authorization identity, user and password. */
function plain({ user, password, signInAs }: Identity): string {
  return signInAs === undefined ? `\0${user}\0${password}` : `${user}\0${signInAs}\0${password}`;
}

function scram({ user, password, signInAs }: Identity, host: string): Mechanism {
  const client = new ScramClient(signInAs ?? user, password, signInAs === undefined ? '' : user);
  let turn = 0;
  let isProven = false;
  const unproven = (cause: ScramFailure) =>
    new MailProblem(
      'server-not-proven',
      `${host} did not prove that it knows the password, so nothing more was said to it: it sent ${cause.message}.`,
      { cause },
    );
  return {
    name: 'SCRAM-SHA-256',
    async respond(challenge) {
      turn++;
      try {
        if (turn === 1) return client.first();
        if (turn === 2) return await client.final(challenge);
        client.verify(challenge);
        isProven = true;
        return '';
      } catch (error) {
        throw error instanceof ScramFailure ? unproven(error) : error;
      }
    },
    end() {
      if (!isProven) throw unproven(new ScramFailure('no proof that it knows the password'));
    },
  };
}
