import { domainToASCII } from 'node:url';
import { isAdmitted } from '../only-servers';
import type { OutboundConfig } from '../outbound-config';
import { configuredServers } from './config';
import { servicesOf } from './dns';
import { answersImap } from './probe';

/** A mail server for an address, and how it was found. */
export interface FoundServer {
  host: string;
  port: number;
  security: 'tls' | 'starttls';
  user: string;
  how: 'list' | 'dns' | 'config' | 'guess';
}

/** What the domain's own configuration and guesses are asked at, other than in a test. */
export const PORTS = { https: 443, imaps: 993, imap: 143 };
export type Ports = typeof PORTS;

/** Names under which mail servers are commonly found (common practice, no source). */
const GUESSED = ['imap.', 'mail.', ''];

/** A domain as in DNS; undefined where the address has none. */
export function domainOfAddress(address: string): string | undefined {
  const domain = domainToASCII(address.slice(address.lastIndexOf('@') + 1).toLowerCase());
  return address.lastIndexOf('@') > 0 && /^[a-z0-9-]+(\.[a-z0-9-]+)+$/.test(domain) ? domain : undefined;
}

/**
 * Finds the mail server of an address, the best first; none where nobody says. Asked in turn, and the first that knows
 * decides: the operator's list, SRV records (RFC 6186, implicit TLS first as RFC 8314 §5.1 wants it), the configuration that
 * the domain publishes, and names that are commonly used, of which one is given only if an IMAP server with a trusted
 * certificate answers there.
 *
 * Whatever is answered, no connection is made but to addresses that the rules for outbound connections allow.
 */
export async function discover(
  address: string,
  outbound: OutboundConfig,
  ports: Ports = PORTS,
): Promise<FoundServer[]> {
  const domain = domainOfAddress(address);
  if (domain === undefined) return [];
  // Where servers are named there is nobody else to ask: neither the domain's own pages nor names that are guessed.
  const ways = outbound.only ? [listed, bySrv] : [listed, bySrv, byConfig, byGuess];
  for (const way of ways) {
    const found = (await way(address, domain, outbound, ports)).filter(({ host, port }) =>
      isAdmitted(host, port, outbound.only),
    );
    if (found.length > 0) return found;
  }
  return [];
}

async function listed(address: string, domain: string, { servers }: OutboundConfig): Promise<FoundServer[]> {
  const own = servers && Object.hasOwn(servers, domain) ? servers[domain] : undefined;
  if (!own) return [];
  const { host, port, security } = own;
  return [{ host, port, security, user: own.user === 'local' ? localPart(address) : address, how: 'list' }];
}

async function bySrv(address: string, domain: string, outbound: OutboundConfig): Promise<FoundServer[]> {
  const found: FoundServer[] = [];
  for (const [service, security] of [
    ['_imaps', 'tls'],
    ['_imap', 'starttls'],
  ] as const)
    for (const { host, port } of await servicesOf(`${service}._tcp.${domain}`, outbound))
      if (isHostName(host)) found.push({ host, port, security, user: address, how: 'dns' });
  return found;
}

async function byConfig(
  address: string,
  domain: string,
  outbound: OutboundConfig,
  ports: Ports,
): Promise<FoundServer[]> {
  const configured = await configuredServers(address, domain, outbound, ports.https);
  return configured.filter(({ host }) => isHostName(host)).map((server) => ({ ...server, how: 'config' }));
}

async function byGuess(
  address: string,
  domain: string,
  outbound: OutboundConfig,
  ports: Ports,
): Promise<FoundServer[]> {
  const guesses = (['tls', 'starttls'] as const).flatMap((security) =>
    GUESSED.map((prefix) => ({
      host: `${prefix}${domain}`,
      port: security === 'tls' ? ports.imaps : ports.imap,
      security,
    })),
  );
  const answers = await Promise.all(guesses.map((guess) => answersImap(guess, outbound)));
  const found = guesses.find((_, index) => answers[index]);
  return found ? [{ ...found, user: address, how: 'guess' }] : [];
}

function localPart(address: string): string {
  return address.slice(0, address.lastIndexOf('@'));
}

/** What others say of hosts is used as such only where it can be one. */
export function isHostName(host: string): boolean {
  return host.length <= 253 && /^[a-z0-9-]+(\.[a-z0-9-]+)*$/.test(host);
}
