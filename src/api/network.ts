import ipaddr from 'ipaddr.js';

/** The network that an address is counted by: itself, or of IPv6 the /64, of which one subscriber has all addresses. */
export function networkOf(address: string): string {
  if (!ipaddr.isValid(address)) return 'unknown';
  const parsed = ipaddr.process(address);
  if (parsed.kind() === 'ipv4') return parsed.toString();
  return `${(parsed as ipaddr.IPv6).parts
    .slice(0, 4)
    .map((part) => part.toString(16))
    .join(':')}::/64`;
}
