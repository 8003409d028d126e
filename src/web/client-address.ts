import type { IncomingMessage } from 'node:http';
import ipaddr from 'ipaddr.js';

/** A network of addresses. */
type Network = ReturnType<typeof ipaddr.parseCIDR>;

/**
 * Reads the proxies that are believed: addresses or networks, parted by commas.
 *
 * @throws Error where one is neither.
 */
export function trustedProxies(list: string | undefined): Network[] {
  return (list ?? '')
    .split(',')
    .map((one) => one.trim())
    .filter(Boolean)
    .map((one) => {
      const cidr = one.includes('/') ? one : `${one}/${one.includes(':') ? 128 : 32}`;
      if (!ipaddr.isValidCIDR(cidr)) throw new Error(`TAMSEL_TRUSTED_PROXY names ${one}, which is no address.`);
      return ipaddr.parseCIDR(cidr);
    });
}

/**
 * Who asks: the peer of the socket. Where that is a proxy that is believed, the address that it added to X-Forwarded-For, and
 * so on to the left as long as the one who added it is believed too. What stands further left anybody can have written.
 */
export function clientAddress(request: IncomingMessage, proxies: readonly Network[]): string {
  const told = [request.headers['x-forwarded-for'] ?? []].flat().join(',').split(',').reverse();
  let address = plain(request.socket.remoteAddress ?? '');
  for (const next of told) {
    if (!isAmong(address, proxies)) break;
    const before = plain(next.trim());
    if (before === '') break;
    address = before;
  }
  return address;
}

/** An address in its shortest form, IPv4 without the prefix that IPv6 gives it; '' where it is none. */
function plain(address: string): string {
  return ipaddr.isValid(address) ? ipaddr.process(address).toString() : '';
}

function isAmong(address: string, networks: readonly Network[]): boolean {
  if (address === '') return false;
  const parsed = ipaddr.parse(address);
  return networks.some((network) => network[0].kind() === parsed.kind() && parsed.match(network));
}
