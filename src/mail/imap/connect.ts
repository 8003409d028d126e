import { isIP } from 'node:net';
import { checkedAddress, isLoopback } from '../destination';
import { isAdmitted } from '../only-servers';
import { type OutboundConfig, trustOf } from '../outbound-config';
import { MailProblem } from '../problem';
import type { Access, MailServer } from '../server';
import { signIn } from './authenticate';
import { Library } from './channel/library';
import { patienceOf } from './channel/timeouts';
import { ImapServer } from './server';

/** Seconds that a server may take for a plain command, where the operator says nothing else. */
const USUAL_SECONDS = 120;

/** Signs in to an IMAP server. Throws a MailProblem that says which step failed. */
export async function connectImap(access: Access, outbound: OutboundConfig): Promise<MailServer> {
  if (!isAdmitted(access.host, access.port, outbound.only))
    throw new MailProblem(
      'server-not-allowed',
      `This instance may not connect to ${access.host}:${access.port}. Ask its operator.`,
    );
  const address = await checkedAddress(access.host, access.port, outbound);
  if (access.security === 'none' && !isLoopback(address)) {
    throw new MailProblem(
      'plain-text-not-allowed',
      'Without encryption Tamsel connects to this machine only. Choose TLS or STARTTLS.',
    );
  }
  try {
    const library = await Library.connect(
      {
        host: address,
        port: access.port,
        secure: access.security === 'tls',
        doSTARTTLS: access.security === 'starttls',
        ...(isIP(access.host) ? {} : { servername: access.host }),
        tls: { rejectUnauthorized: true, ...trustOf(outbound) },
      },
      access.user,
      (session) => signIn(session, access),
    );
    return await ImapServer.over(
      library,
      `${access.host}:${access.port}`,
      patienceOf(outbound.commandSeconds ?? USUAL_SECONDS),
    );
  } catch (error) {
    if (error instanceof MailProblem) throw error;
    throw connectProblem(error as ImapFailure, access);
  }
}

/** What the library adds to its errors. */
interface ImapFailure extends Error {
  code?: string;
  authenticationFailed?: boolean;
  /** Of the response in brackets, such as AUTHENTICATIONFAILED. */
  serverResponseCode?: string;
  responseText?: string;
  response?: string;
}

const CERTIFICATE_TROUBLE: Record<string, string> = {
  CERT_HAS_EXPIRED: 'it has expired',
  CERT_NOT_YET_VALID: 'it is not valid yet',
  DEPTH_ZERO_SELF_SIGNED_CERT: 'it is signed by itself',
  SELF_SIGNED_CERT_IN_CHAIN: 'it comes from an authority that this machine does not know',
  UNABLE_TO_VERIFY_LEAF_SIGNATURE: 'it comes from an authority that this machine does not know',
  UNABLE_TO_GET_ISSUER_CERT: 'it comes from an authority that this machine does not know',
  UNABLE_TO_GET_ISSUER_CERT_LOCALLY: 'it comes from an authority that this machine does not know',
  ERR_TLS_CERT_ALTNAME_INVALID: 'it was made out to another name',
  CERT_REVOKED: 'it was revoked',
};

function connectProblem(error: ImapFailure, access: Access): MailProblem {
  const where = `${access.host}:${access.port}`;
  const options = { cause: error };
  const code = error.code ?? '';
  // A sign-in may be refused for a while (RFC 5530 §3): that says nothing about the password.
  const answered = error.serverResponseCode?.toUpperCase() ?? '';
  if (['LIMIT', 'INUSE', 'UNAVAILABLE', 'SERVERBUG'].includes(answered)) {
    const said = error.responseText ? ` It said: “${error.responseText}”.` : '';
    return new MailProblem('throttled', `${access.host} asked for patience.${said}`, options);
  }
  if (error.authenticationFailed) {
    const said = error.responseText ? ` It said: “${error.responseText}”.` : '';
    if ('token' in access)
      return new MailProblem(
        'token-refused',
        `${access.host} does not accept the authorization for ${access.user}. Was it given for that mailbox?${said}`,
        options,
      );
    return new MailProblem('password-refused', `${access.host} refused the user name or the password.${said}`, options);
  }
  const trouble = CERTIFICATE_TROUBLE[code];
  if (trouble)
    return new MailProblem(
      'untrusted-certificate',
      `The certificate of ${access.host} is not trusted: ${trouble}.`,
      options,
    );
  if (code === 'ECONNREFUSED')
    return new MailProblem('refused', `${where} refuses connections. Check the port.`, options);
  if (
    [
      'CONNECT_TIMEOUT',
      'GREETING_TIMEOUT',
      'UPGRADE_TIMEOUT',
      'ETIMEDOUT',
      'ETIMEOUT',
      'EHOSTUNREACH',
      'ENETUNREACH',
    ].includes(code)
  ) {
    return new MailProblem(
      'timed-out',
      `${where} did not answer in time. Check the port and the kind of security.`,
      options,
    );
  }
  if (/STARTTLS/i.test(`${code} ${error.message}`)) {
    return new MailProblem('no-tls', `${where} does not offer STARTTLS. Choose TLS, usually on port 993.`, options);
  }
  if (['ECONNRESET', 'EPIPE'].includes(code))
    return new MailProblem('connection-lost', `${where} closed the connection.`, options);
  return new MailProblem(
    'not-imap',
    `What answers at ${where} is not an IMAP server, or not with this kind of security.`,
    options,
  );
}
