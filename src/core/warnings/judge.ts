import { domainOf } from '../mailbox/email-address';
import type { Authenticity } from '../unsubscribe/authenticity';
import { agrees, type SaidFigures } from './figures';

/** What speaks for a warning, or against it. */
export const WARNING_SIGNS = [
  /** Its author is of the host's domain, or of the mailbox's own. */
  'own-domain',
  'other-domain',
  /** A signature of that domain was verified: by us, or by the own host (RFC 8601). */
  'proven',
  'disproven',
  'unproven',
  /** Its figure against that of the server at that time. */
  'figure-agrees',
  'figure-differs',
  'no-figure',
  'figure-unknown',
  /** It has links that lead elsewhere than to the host. */
  'foreign-links',
  /** What it says could not be read whole. */
  'not-read',
  'in-junk',
] as const;
export type WarningSign = (typeof WARNING_SIGNS)[number];

export interface Judged {
  /** `genuine`: it comes from the host, and nothing speaks against it. `unclear`: nothing proves whose it is. */
  verdict: 'genuine' | 'not-genuine' | 'unclear';
  signs: WarningSign[];
  /** Of the author. */
  domain: string;
  /** Hosts to which its links lead, but for the own ones. */
  foreign: string[];
  /** What it says, and what the server said then: shares of one. */
  said: number | null;
  was: number | null;
}

/** Hosts that are told of one message. */
const MAX_HOSTS = 5;

/**
 * Tells whether a message that says that the mailbox is full comes from the host.
 *
 * @param figure what the server said about that time; null where that is not known.
 * @param own the name of the mail server, and the user's address.
 */
export function judgeWarning(
  message: {
    from: string;
    authenticity: Authenticity;
    /** Whether its text and links are all known. */
    isRead: boolean;
    links: readonly string[];
    figures: SaidFigures;
    inJunk: boolean;
  },
  figure: { used: number; limit: number } | null,
  own: { host: string; user: string },
): Judged {
  const domain = domainOf(message.from);
  const mine = new Set([siteOf(own.host), domainOf(own.user)].filter((site) => site !== ''));
  const isOwn = domain !== '' && mine.has(domain);
  const signs: WarningSign[] = [isOwn ? 'own-domain' : 'other-domain'];
  const { verdict } = message.authenticity;
  signs.push(verdict === 'pass' ? 'proven' : verdict === 'failed' ? 'disproven' : 'unproven');
  const isSaid = message.figures.shares.length + message.figures.octets.length > 0;
  const agreed = figure && agrees(message.figures, figure);
  signs.push(!isSaid ? 'no-figure' : agreed === null ? 'figure-unknown' : agreed ? 'figure-agrees' : 'figure-differs');
  const foreign = [...new Set(message.links.flatMap((link) => hostIn(link) ?? []))].filter(
    (host) => !mine.has(siteOf(host)),
  );
  if (foreign.length > 0) signs.push('foreign-links');
  if (!message.isRead) signs.push('not-read');
  if (message.inJunk) signs.push('in-junk');
  const isAgainst = verdict === 'failed' || agreed === false || foreign.length > 0 || message.inJunk;
  return {
    verdict: !isOwn || isAgainst ? 'not-genuine' : verdict === 'pass' && message.isRead ? 'genuine' : 'unclear',
    signs,
    domain,
    foreign: foreign.slice(0, MAX_HOSTS),
    said: message.figures.shares[0] ?? null,
    was: figure ? figure.used / Math.max(1, figure.limit) : null,
  };
}

/** The host of a link that a browser would follow; undefined where it is none. */
function hostIn(link: string): string | undefined {
  try {
    const { protocol, hostname } = new URL(link);
    return protocol === 'https:' || protocol === 'http:' ? hostname.slice(0, 253) : undefined;
  } catch {
    return undefined;
  }
}

/** The registrable domain of a host, or the host where it has none. */
function siteOf(host: string): string {
  return domainOf(`@${host}`) || host.toLowerCase();
}
