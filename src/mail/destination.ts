import { BlockList, isIP } from 'node:net';
import { addressesOf } from './names';
import type { Outgoing } from './outgoing';
import { MailProblem } from './problem';

/** Special-purpose networks (RFC 6890 and its registries) that are not the public internet. */
const INNER_4 = [
  '0.0.0.0/8',
  '10.0.0.0/8',
  '100.64.0.0/10',
  '127.0.0.0/8',
  '169.254.0.0/16',
  '172.16.0.0/12',
  '192.0.0.0/24',
  '192.168.0.0/16',
  '198.18.0.0/15',
  '224.0.0.0/4',
  '240.0.0.0/4',
];
const INNER_6 = [
  '::/128',
  '::1/128',
  '64:ff9b:1::/48',
  '100::/64',
  '2001::/23',
  'fc00::/7',
  'fe80::/10',
  'fec0::/10',
  'ff00::/8',
];

const inner = new BlockList();
for (const network of INNER_4) inner.addSubnet(...cidr(network), 'ipv4');
for (const network of INNER_6) inner.addSubnet(...cidr(network), 'ipv6');

const loopback = new BlockList();
loopback.addSubnet('127.0.0.0', 8, 'ipv4');
loopback.addAddress('::1', 'ipv6');

function cidr(network: string): [string, number] {
  const [address, bits] = network.split('/');
  return [address as string, Number(bits)];
}

/** The IPv4 address inside an IPv6 one: mapped (RFC 4291), NAT64 (RFC 6052), or 6to4 (RFC 3056). */
function embedded4(address: string): string | undefined {
  const full = new URL(`http://[${address}]/`).hostname.slice(1, -1);
  const dotted = (high: string, low: string) => {
    const number = (Number.parseInt(high, 16) << 16) | Number.parseInt(low, 16);
    return [24, 16, 8, 0].map((shift) => (number >>> shift) & 255).join('.');
  };
  const mapped =
    /^(?:::ffff:|64:ff9b::)([0-9a-f]+):([0-9a-f]+)$/.exec(full) ?? /^2002:([0-9a-f]+):([0-9a-f]+):/.exec(full);
  return mapped ? dotted(mapped[1] as string, mapped[2] as string) : undefined;
}

function listed(list: BlockList, address: string): boolean {
  if (isIP(address) === 4) return list.check(address, 'ipv4');
  const inside = embedded4(address);
  return inside !== undefined ? list.check(inside, 'ipv4') : list.check(address, 'ipv6');
}

export function isLoopback(address: string): boolean {
  return listed(loopback, address);
}

/** Whether an address is private, loopback, link-local, shared or otherwise not public. */
export function isInner(address: string): boolean {
  return listed(inner, address);
}

/**
 * Resolves a host once, checks every address it has, and gives the one to connect to.
 *
 * @throws MailProblem no-such-host, or address-not-allowed where any address is an inner one and these are not allowed.
 */
export async function checkedAddress(host: string, outgoing: Pick<Outgoing, 'allowPrivate' | 'dns'>): Promise<string> {
  let addresses: string[];
  if (isIP(host)) addresses = [host];
  else {
    try {
      addresses = await addressesOf(host, outgoing);
    } catch (cause) {
      throw new MailProblem('no-such-host', `There is no server named ${host}. Check the spelling.`, { cause });
    }
  }
  if (!outgoing.allowPrivate && addresses.some(isInner)) {
    throw new MailProblem(
      'address-not-allowed',
      `${host} lies in a private network, and this instance reaches public servers only.`,
    );
  }
  const address = addresses[0];
  if (address === undefined) throw new MailProblem('no-such-host', `${host} has no address.`);
  return address;
}
