import { SIEVE_PORT, type SieveServer } from '../managesieve/client';
import { isAdmitted } from '../only-servers';
import type { OutboundConfig } from '../outbound-config';
import { domainOfAddress, isHostName } from './discover';
import { servicesOf } from './dns';

/**
 * Where the rules of an account are: as the operator's list says, as SRV records of its domain do (RFC 5804 §1.8), else at the
 * name of its mail server.
 */
export async function discoverSieve(user: string, mailHost: string, outbound: OutboundConfig): Promise<SieveServer> {
  const domain = domainOfAddress(user);
  const listed =
    domain !== undefined && outbound.servers && Object.hasOwn(outbound.servers, domain)
      ? outbound.servers[domain]?.sieve
      : undefined;
  if (listed) return listed;
  const services = domain === undefined ? [] : await servicesOf(`_sieve._tcp.${domain}`, outbound);
  const [found] = services.filter(({ host, port }) => isHostName(host) && isAdmitted(host, port, outbound.only));
  return { ...(found ?? { host: mailHost, port: SIEVE_PORT }), security: 'starttls' };
}
