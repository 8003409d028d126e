import { domainOfAddress, isHostName } from '../mail/discovery/discover';
import { servicesOf, textsOf } from '../mail/discovery/dns';
import type { OutboundConfig } from '../mail/outbound-config';
import { askWeb } from '../mail/web';

/** A file space that may belong to an address, and how it was found. */
export interface FoundSpace {
  /** `https://files.example/space/` */
  address: string;
  how: 'list' | 'dns' | 'well-known';
}

/** Where the address that is the same at every host leads on to (RFC 8615). */
const WELL_KNOWN = '/.well-known/webdav';
const MOST_REDIRECTS = 3;

/**
 * Finds where the host of an address publishes a file space. Asked in turn, and the first that knows decides: the operator's list; SRV
 * and TXT records, in the way of RFC 6764 §3 and §4 (there for calendars and contacts; the service name is that of the registry of
 * service names, from memory); and a well-known address on the domain, in the way of §5, whose name is in no registry.
 *
 * Nothing is signed in to, and no connection is made but to addresses that the rules for outgoing connections allow.
 *
 * @param user who signs in to the mailbox, for the operator's list.
 */
export async function discoverSpaces(user: string, outbound: OutboundConfig, httpsPort = 443): Promise<FoundSpace[]> {
  const domain = domainOfAddress(user);
  if (domain === undefined) return [];
  const { servers } = outbound;
  const listed = servers && Object.hasOwn(servers, domain) ? servers[domain]?.files : undefined;
  if (listed) return [{ address: listed.replaceAll('{user}', encodeURIComponent(user)), how: 'list' }];
  const named = await bySrv(domain, outbound);
  if (named.length > 0 || outbound.only) return named;
  const known = await wellKnown(`https://${domain}:${httpsPort}`, outbound);
  return known === undefined ? [] : [{ address: known, how: 'well-known' }];
}

async function bySrv(domain: string, outbound: OutboundConfig): Promise<FoundSpace[]> {
  const name = `_webdavs._tcp.${domain}`;
  const [services, texts] = await Promise.all([servicesOf(name, outbound), textsOf(name, outbound)]);
  // RFC 6764 §4.
  const path = texts.find((text) => text.startsWith('path=/'))?.slice('path='.length);
  const found: FoundSpace[] = [];
  for (const { host, port } of services) {
    const origin = `https://${host}:${port}`;
    if (!isHostName(host) || !URL.canParse(`${origin}${path ?? ''}`)) continue;
    const address = path ? new URL(`${origin}${path}`).href : await wellKnown(origin, outbound);
    if (address) found.push({ address, how: 'dns' });
  }
  return found;
}

/** Where the well-known address leads, by HTTPS all the way; undefined where nothing is. */
async function wellKnown(origin: string, outbound: OutboundConfig): Promise<string | undefined> {
  let url = new URL(`${origin}${WELL_KNOWN}`);
  for (let redirects = 0; redirects <= MOST_REDIRECTS && url.protocol === 'https:'; redirects++) {
    const answer = await askWeb(url, { method: 'OPTIONS' }, outbound).catch(() => undefined);
    if (!answer) return undefined;
    const location = answer.headers.get('location');
    const leadsOn = answer.status >= 300 && answer.status < 400 && location !== null && URL.canParse(location, url);
    // Whoever wants a sign-in, or says what it speaks (RFC 4918 §10.1), is no page of a web site.
    if (!leadsOn) return answer.status === 401 || answer.headers.has('dav') ? url.href : undefined;
    url = new URL(location, url);
  }
  return undefined;
}
