import { XMLParser } from 'fast-xml-parser';
import type { OutboundConfig } from '../outbound-config';
import { askWeb } from '../web';

/** What sends us about is no configuration. */
const MAX_REDIRECTS = 3;
const MAX_SERVERS = 8;

interface Configured {
  host: string;
  port: number;
  security: 'tls' | 'starttls';
  user: string;
}

const SECURITY: Record<string, Configured['security']> = { SSL: 'tls', STARTTLS: 'starttls' };

/**
 * The servers for IMAP, or for handing mail in, that a domain publishes as config-v1.1.xml, in the order in which they stand there (common practice, no
 * standard). Asked for by HTTPS only.
 */
export async function configuredServers(
  address: string,
  domain: string,
  outbound: OutboundConfig,
  port: number,
  protocol: 'imap' | 'smtp' = 'imap',
): Promise<Configured[]> {
  const places = [
    `https://autoconfig.${domain}:${port}/mail/config-v1.1.xml?emailaddress=${encodeURIComponent(address)}`,
    `https://${domain}:${port}/.well-known/autoconfig/mail/config-v1.1.xml`,
  ];
  for (const place of places) {
    const text = await fetched(new URL(place), outbound, MAX_REDIRECTS).catch(() => undefined);
    const servers = text === undefined ? [] : readConfig(text, address, protocol);
    if (servers.length > 0) return servers;
  }
  return [];
}

/** Reads a configuration; what is no such document has no servers. */
export function readConfig(text: string, address: string, protocol: 'imap' | 'smtp' = 'imap'): Configured[] {
  const element = protocol === 'imap' ? 'incomingServer' : 'outgoingServer';
  const parser = new XMLParser({
    ignoreAttributes: false,
    attributeNamePrefix: '@',
    // Entities that a document declares may grow without end.
    processEntities: false,
    parseTagValue: false,
    isArray: (name) => name === element,
  });
  let servers: unknown;
  try {
    servers = (parser.parse(text) as { clientConfig?: { emailProvider?: Record<string, unknown> } }).clientConfig
      ?.emailProvider?.[element];
  } catch {
    return [];
  }
  if (!Array.isArray(servers)) return [];
  return servers.slice(0, MAX_SERVERS).flatMap((server: Record<string, unknown>) => {
    const said = (name: string) => (typeof server[name] === 'string' ? (server[name] as string).trim() : '');
    const security = SECURITY[said('socketType').toUpperCase()];
    const port = Number(said('port'));
    if (said('@type') !== protocol || !security || !Number.isInteger(port) || port < 1 || port > 65_535) return [];
    const host = filled(said('hostname'), address).toLowerCase();
    return [{ host, port, security, user: filled(said('username'), address) || address }];
  });
}

function filled(pattern: string, address: string): string {
  const at = address.lastIndexOf('@');
  return pattern
    .replaceAll('%EMAILADDRESS%', () => address)
    .replaceAll('%EMAILLOCALPART%', () => address.slice(0, at))
    .replaceAll('%EMAILDOMAIN%', () => address.slice(at + 1));
}

/** Fetches a text, by HTTPS all the way. */
async function fetched(url: URL, outbound: OutboundConfig, redirects: number): Promise<string> {
  if (url.protocol !== 'https:') throw new Error('no place to ask');
  const answer = await askWeb(url, { headers: { accept: 'application/xml, text/xml' } }, outbound);
  const location = answer.headers.get('location');
  if (answer.status >= 300 && answer.status < 400 && location) {
    if (redirects === 0) throw new Error('too many redirects');
    return fetched(new URL(location, url), outbound, redirects - 1);
  }
  if (answer.status !== 200) throw new Error(`status ${answer.status}`);
  return answer.text();
}
