/** RFC 5321 §4.5.3.1: of the local part, and of all of it. */
const MAX_LOCAL = 64;
const MAX_ADDRESS = 254;

/**
 * One address that mail can be sent to (addr-spec of RFC 5322 §3.4.1, its local part as an atom or quoted); undefined where it is
 * none, or several.
 */
export function parseAddress(text: string): string | undefined {
  const address = text.trim();
  const at = address.lastIndexOf('@');
  if (at < 1 || address.length > MAX_ADDRESS || at > MAX_LOCAL) return undefined;
  const [local, domain] = [address.slice(0, at), address.slice(at + 1)];
  const isAtom = /^[\p{L}\p{N}!#$%&'*+/=?^_`{|}~.-]+$/u.test(local) && !/^\.|\.\.|\.$/.test(local);
  const isQuoted = /^"[^"\\\r\n\0]*"$/.test(local);
  const isDomain = /^[\p{L}\p{N}](?:[\p{L}\p{N}.-]*[\p{L}\p{N}])?$/u.test(domain) && !domain.includes('..');
  return (isAtom || isQuoted) && isDomain ? address : undefined;
}
