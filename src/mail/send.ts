import { createTransport } from 'nodemailer';
import type { LeavingMail } from '../core/unsubscribe/mailto';
import { checkedAddress, isLoopback } from './destination';
import type { SubmissionServer } from './discovery/submission';
import { type OutboundConfig, trustOf } from './outbound-config';
import { MailProblem } from './problem';
import type { Credential } from './server';

/** What became of a mail that was handed in. `unclear`: nobody knows whether it was taken. */
export type SendAnswer = { outcome: 'taken' } | { outcome: 'refused' | 'unclear' | 'not-reached'; detail: string };

const PATIENCE_MS = 20_000;

/**
 * Hands a mail of plain text in, as the user, at the submission server of their account (RFC 6409), with what they sign in to their
 * mailbox with.
 */
export async function sendAs(
  user: string,
  server: SubmissionServer,
  credential: Credential,
  mail: LeavingMail & { from: string },
  outbound: OutboundConfig,
): Promise<SendAnswer> {
  const { host, port, security } = server;
  let address: string;
  try {
    address = await checkedAddress(host, port, outbound);
  } catch (error) {
    if (error instanceof MailProblem) return { outcome: 'not-reached', detail: error.message };
    throw error;
  }
  if (security === 'none' && !isLoopback(address))
    return {
      outcome: 'not-reached',
      detail: `The server ${host} is not on this machine, so it has to be used with TLS.`,
    };
  const transport = createTransport({
    host: address,
    port,
    secure: security === 'tls',
    requireTLS: security === 'starttls',
    ignoreTLS: security === 'none',
    tls: { servername: host, ...trustOf(outbound) },
    connectionTimeout: PATIENCE_MS,
    greetingTimeout: PATIENCE_MS,
    socketTimeout: PATIENCE_MS,
    disableFileAccess: true,
    disableUrlAccess: true,
    ...(server.signIn
      ? {
          auth:
            'token' in credential
              ? { type: 'OAuth2' as const, user, accessToken: credential.token }
              : { user, pass: credential.password },
        }
      : {}),
  });
  const { from, to, subject, body } = mail;
  const refused = (error: unknown): SendAnswer | undefined => {
    const { responseCode } = error as { responseCode?: number };
    return responseCode === undefined
      ? undefined
      : { outcome: 'refused', detail: `The server ${host} did not take the mail (${responseCode}).` };
  };
  try {
    await transport.verify();
  } catch (error) {
    transport.close();
    const { code = 'no answer' } = error as { code?: string };
    return refused(error) ?? { outcome: 'not-reached', detail: `The server ${host} can’t be used (${code}).` };
  }
  try {
    await transport.sendMail({ from, to: { name: '', address: to }, subject: subject || 'unsubscribe', text: body });
    return { outcome: 'taken' };
  } catch (error) {
    return refused(error) ?? { outcome: 'unclear', detail: `The server ${host} did not say whether it took the mail.` };
  } finally {
    transport.close();
  }
}
