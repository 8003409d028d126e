import { domainOf } from '../../core/mailbox/email-address';
import { isAdmitted } from '../only-servers';
import type { OutboundConfig } from '../outbound-config';
import { configuredServers } from './config';
import { domainOfAddress, isHostName, PORTS } from './discover';
import { servicesOf } from './dns';
import { answersSubmission } from './probe';

/** A server that takes mail for delivery (RFC 6409). */
export interface SubmissionServer {
  host: string;
  port: number;
  /** `none` on this machine alone, and where the operator says so. */
  security: 'tls' | 'starttls' | 'none';
  signIn: boolean;
}

/** Names under which such servers are commonly found (common practice, no source). */
const GUESSED = ['smtp.', 'mail.', ''];

/** What is asked for configurations, and guessed, other than in a test; the ports of RFC 8314 §7.3. */
const SUBMISSION_PORTS = { https: PORTS.https, tls: 465, starttls: 587 };

/**
 * Finds the server that takes an address's mail, in the order in which its mail server is found (discover.ts): the operator's
 * list, SRV records (RFC 6186 §3.1, RFC 8314 §5.1), the configuration that the domain publishes, and common names of its domain
 * and of the mail server's.
 */
export async function discoverSubmission(
  address: string,
  mailHost: string,
  outbound: OutboundConfig,
  ports = SUBMISSION_PORTS,
): Promise<SubmissionServer | undefined> {
  const domain = domainOfAddress(address);
  if (domain === undefined) return undefined;
  const listed = outbound.servers && Object.hasOwn(outbound.servers, domain) ? outbound.servers[domain] : undefined;
  if (listed?.submission) return listed.submission;
  const isOurs = ({ host, port }: { host: string; port: number }) =>
    isHostName(host) && isAdmitted(host, port, outbound.only);
  for (const [service, security] of [
    ['_submissions', 'tls'],
    ['_submission', 'starttls'],
  ] as const) {
    const [found] = (await servicesOf(`${service}._tcp.${domain}`, outbound)).filter(isOurs);
    if (found) return { ...found, security, signIn: true };
  }
  if (outbound.only) return undefined;
  const [configured] = (await configuredServers(address, domain, outbound, ports.https, 'smtp')).filter(isOurs);
  if (configured) {
    const { host, port, security } = configured;
    return { host, port, security, signIn: true };
  }
  const domains = [...new Set([domain, domainOf(`@${mailHost}`)])].filter(isGuessable);
  const guesses = domains.flatMap((one) =>
    (['tls', 'starttls'] as const).flatMap((security) =>
      GUESSED.map((prefix) => ({ host: `${prefix}${one}`, port: ports[security], security })),
    ),
  );
  const answers = await Promise.all(guesses.map((guess) => answersSubmission(guess, outbound)));
  const found = guesses.find((_, index) => answers[index]);
  return found && { ...found, signIn: true };
}

function isGuessable(domain: string): boolean {
  return domain.includes('.') && isHostName(domain);
}
