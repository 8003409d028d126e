import { type LookupAddress, promises } from 'node:dns';
import type { OutboundConfig } from '../outbound-config';

/** A name is asked for so long and so often; a sign-in page waits for it. */
const PATIENCE = { timeout: 2_000, tries: 2 };

/** A service as SRV tells it (RFC 2782). */
export interface Service {
  host: string;
  port: number;
}

/** Answers of more services than this are cut: nobody has as many. */
const MAX_SERVICES = 8;

/** The addresses of a host, by the system's ways unless the operator names servers of DNS. Rejects where there are none. */
export async function addressesOf(host: string, { dns }: Pick<OutboundConfig, 'dns'>): Promise<string[]> {
  // RFC 6761 §6.3: this name is nobody else's.
  if (!dns || host === 'localhost') {
    const found: LookupAddress[] = await promises.lookup(host, { all: true });
    return found.map(({ address }) => address);
  }
  const resolver = resolverOf(dns);
  const answers = await Promise.allSettled([resolver.resolve4(host), resolver.resolve6(host)]);
  const addresses = answers.flatMap((answer) => (answer.status === 'fulfilled' ? answer.value : []));
  if (addresses.length === 0) throw (answers[0] as PromiseRejectedResult).reason ?? new Error('no address');
  return addresses;
}

/** The services under a name, in the order in which they are to be tried; none where the domain says that it has none. */
export async function servicesOf(name: string, { dns }: Pick<OutboundConfig, 'dns'>): Promise<Service[]> {
  const records = await resolverOf(dns)
    .resolveSrv(name)
    .catch(() => []);
  return (
    records
      .slice(0, MAX_SERVICES)
      // RFC 6186 §3.4: a target of `.` says that the service is not offered.
      .filter(({ name: host, port }) => host !== '' && host !== '.' && port > 0)
      .sort((a, b) => a.priority - b.priority || b.weight - a.weight)
      .map(({ name: host, port }) => ({ host: host.toLowerCase().replace(/\.$/, ''), port }))
  );
}

/** The texts under a name (RFC 1035 §3.3.14), each as one; none where there are none. */
export async function textsOf(name: string, { dns }: Pick<OutboundConfig, 'dns'>): Promise<string[]> {
  const records = await resolverOf(dns)
    .resolveTxt(name)
    .catch(() => []);
  return records.slice(0, MAX_SERVICES).map((parts) => parts.join(''));
}

function resolverOf(dns: readonly string[] | undefined): promises.Resolver {
  const resolver = new promises.Resolver(PATIENCE);
  if (dns) resolver.setServers(dns);
  return resolver;
}
