import { domainOf, hostOf } from '../mailbox/email-address';
import { type AuthenticationResults, parseAuthenticationResults } from './authentication-results';

/** A field of a header as it stands there: its name in lower case, and its body unfolded. */
export type Field = readonly [name: string, body: string];

/** A DKIM signature (RFC 6376) that we looked at ourselves. */
export interface Signature {
  /** The signing domain. */
  domain: string;
  result: 'pass' | 'fail' | 'unknown';
  /** Names of the fields that it covers, in lower case. */
  covers: readonly string[];
}

/** Whether a message is from whom it says, and whether what it says of unsubscribing is. */
export type Authenticity =
  /** `covers`: both fields of RFC 8058 are signed (§4). `by`: our own look at its signature, or the word of the host. */
  { verdict: 'pass'; by: 'signature' | 'host'; domain: string; covers: boolean } | { verdict: 'failed' | 'unknown' };

const COVERED = ['list-unsubscribe', 'list-unsubscribe-post'];

/**
 * Tells whether a message is its sender's: by a signature of the author's domain that we have verified, else by what the own host
 * says of one (RFC 8601). Domains are aligned where they have the same registrable domain (RFC 7489 §3.1.1, relaxed).
 *
 * @param fields of the header, from the top.
 * @param signatures as we verified them; undefined where we could not look.
 * @param own who the own host is: host of the mail server, and the user's address.
 */
export function authenticityOf(
  fields: readonly Field[],
  from: string,
  signatures: readonly Signature[] | undefined,
  own: { host: string; user: string },
): Authenticity {
  const author = domainOf(from);
  // Of several authors nobody can say whose word it is (RFC 7489 §6.6.1).
  if (author === '' || fields.filter(([name]) => name === 'from').length > 1) return { verdict: 'unknown' };
  const isAligned = (domain: string) => domainOf(`@${domain.replace(/^@/, '')}`) === author;
  const said = wordOfHost(fields, own);
  if (said?.results.some(({ method, result }) => method === 'dmarc' && result === 'fail')) return { verdict: 'failed' };
  const verified = (signatures ?? []).filter(({ domain, result }) => result === 'pass' && isAligned(domain));
  const best = verified.find(({ covers }) => coversBoth(covers)) ?? verified[0];
  if (best) return { verdict: 'pass', by: 'signature', domain: best.domain, covers: coversBoth(best.covers) };
  const dkim = said?.results.filter(({ method }) => method === 'dkim') ?? [];
  const passed = dkim.flatMap(({ result, properties }) => {
    const domain = properties.get('header.d') ?? properties.get('header.i')?.replace(/^.*@/s, '') ?? '';
    return result === 'pass' && domain !== '' && isAligned(domain) ? [{ domain, b: properties.get('header.b') }] : [];
  });
  const [first] = passed;
  if (first) {
    const covers = passed.some(({ domain, b }) => coversBoth(coveredBy(fields, domain, b)));
    return { verdict: 'pass', by: 'host', domain: first.domain, covers };
  }
  const isBroken = (signatures ?? []).some(({ domain, result }) => result === 'fail' && isAligned(domain));
  return { verdict: isBroken || dkim.some(({ result }) => result === 'fail') ? 'failed' : 'unknown' };
}

/**
 * What the own host says. Anybody can write such a field, so it counts only where the host has put it: it bears the name of the
 * mail server's domain, whose forgeries a host takes out (RFC 8601 §5), or stands above every Received, with which the last host
 * marks what it was given (RFC 5321 §4.4), and bears the name of the user's domain.
 */
function wordOfHost(fields: readonly Field[], own: { host: string; user: string }): AuthenticationResults | undefined {
  let isAbove = true;
  for (const [name, body] of fields) {
    if (name === 'received') isAbove = false;
    if (name !== 'authentication-results') continue;
    const read = parseAuthenticationResults(body);
    if (!read) continue;
    const domain = sameSite(read.by);
    if (domain === sameSite(own.host) || (isAbove && domain === (domainOf(own.user) || hostOf(own.user)))) return read;
  }
  return undefined;
}

/** The registrable domain of a host, or the host where it has none. */
function sameSite(host: string): string {
  return domainOf(`@${host}`) || host.toLowerCase();
}

/** The fields that the signature of a domain covers, by what it says itself (h=, RFC 6376 §3.5). */
function coveredBy(fields: readonly Field[], domain: string, b: string | undefined): string[] {
  for (const [name, body] of fields) {
    if (name !== 'dkim-signature') continue;
    const tags = tagsOf(body);
    const isIt = tags.get('d')?.toLowerCase() === domain.toLowerCase() && (!b || tags.get('b')?.startsWith(b));
    if (isIt) return coveredNames(tags.get('h') ?? '');
  }
  return [];
}

/** Names of the fields that a signature covers. */
export function coveredNames(h: string): string[] {
  return h.split(':').map((name) => name.trim().toLowerCase());
}

/** The tags of a signature (tag-list, RFC 6376 §3.2), white space left out. */
function tagsOf(body: string): Map<string, string> {
  const tags = new Map<string, string>();
  for (const part of body.split(';')) {
    const at = part.indexOf('=');
    if (at > 0) tags.set(part.slice(0, at).trim(), part.slice(at + 1).replace(/\s+/g, ''));
  }
  return tags;
}

function coversBoth(covers: readonly string[]): boolean {
  return COVERED.every((name) => covers.includes(name));
}
