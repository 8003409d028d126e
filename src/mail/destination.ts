import { isIP } from 'node:net';
import ipaddr from 'ipaddr.js';
import { addressesOf } from './discovery/dns';
import type { OutboundConfig } from './outbound-config';
import { MailProblem } from './problem';
import { reachable } from './reachable';

/** IPv6 addresses that hold an IPv4 one without a prefix of their own, which nobody routes (RFC 4291 §2.5.5.1). */
const COMPATIBLE = ipaddr.parseCIDR('::/96');

/** The registry of special-purpose addresses (RFC 6890) that an address belongs to; `unicast` is the public internet. */
function rangeOf(address: string): string {
  // An address with a zone is of a link of this machine.
  if (isIP(address) === 0 || address.includes('%')) return 'invalid';
  // The library takes `::` before an IPv4 address for `::ffff:`; in its shortest form it has no such part.
  const shortest = isIP(address) === 6 ? new URL(`http://[${address}]/`).hostname.slice(1, -1) : address;
  const parsed = ipaddr.process(shortest);
  const isCompatible = parsed.kind() === 'ipv6' && parsed.match(COMPATIBLE);
  return isCompatible && parsed.range() === 'unicast' ? 'ipv4Compatible' : parsed.range();
}

export function isLoopback(address: string): boolean {
  return rangeOf(address) === 'loopback';
}

/**
 * Whether an address is anything but one of the public internet: private, loopback, link-local, shared, of documentation, or one
 * that wraps an IPv4 address (mapped, translated, NAT64, 6to4, Teredo), which leads wherever a gateway takes it.
 */
export function isInner(address: string): boolean {
  return rangeOf(address) !== 'unicast';
}

/**
 * Resolves a host once, and checks every address it has.
 *
 * @throws MailProblem no-such-host, or address-not-allowed where any address is an inner one and these are not allowed.
 */
export async function checkedAddresses(
  host: string,
  outbound: Pick<OutboundConfig, 'allowPrivate' | 'dns'>,
): Promise<string[]> {
  let addresses: string[];
  if (isIP(host)) addresses = [host];
  else {
    try {
      addresses = await addressesOf(host, outbound);
    } catch (cause) {
      throw new MailProblem('no-such-host', `There is no server named ${host}. Check the spelling.`, { cause });
    }
  }
  admit(host, addresses, outbound);
  return addresses;
}

/** Resolves a host once, checks every address it has, and gives one that takes connections. @throws MailProblem as checkedAddresses does. */
export async function checkedAddress(
  host: string,
  port: number,
  outbound: Pick<OutboundConfig, 'allowPrivate' | 'dns'>,
): Promise<string> {
  return reachable(await checkedAddresses(host, outbound), port);
}

/**
 * Each address that a host has must be allowed, since a name that leads inside once may do so again.
 *
 * @throws MailProblem as checkedAddresses does.
 */
export function admit(
  host: string,
  addresses: readonly string[],
  { allowPrivate }: Pick<OutboundConfig, 'allowPrivate'>,
): void {
  if (!allowPrivate && addresses.some(isInner)) {
    throw new MailProblem(
      'address-not-allowed',
      `${host} lies in a private network, and this instance reaches public servers only.`,
    );
  }
  if (addresses.length === 0) throw new MailProblem('no-such-host', `${host} has no address.`);
}
