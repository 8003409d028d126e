import type { Authenticity } from './authenticity';
import type { Ways } from './ways';

/** How a sender can be asked to stop; `page`: by hand alone. */
export type Way = 'one-click' | 'mail' | 'page' | 'none';

/** Why Tamsel asks nobody there: an answer tells a forger that the address lives. */
export type NotAsked =
  | 'in-junk'
  /** The host, or a look at its signature, says that it is not from whom it says. */
  | 'failed-authentication'
  /** Nobody says that it is. */
  | 'not-authenticated'
  /** RFC 8058 §4 wants both of its fields signed. */
  | 'not-signed';

/** How a sender can be asked, by one click before by a mail, and why not otherwise. */
export function wayToAsk(ways: Ways, authenticity: Authenticity, inJunk: boolean): { way: Way; why?: NotAsked } {
  const byHand: Way = ways.pages.length > 0 ? 'page' : 'none';
  if (inJunk) return { way: 'none', why: 'in-junk' };
  if (authenticity.verdict === 'failed') return { way: 'none', why: 'failed-authentication' };
  if (authenticity.verdict !== 'pass') return { way: byHand, why: 'not-authenticated' };
  if (ways.oneClick && authenticity.covers) return { way: 'one-click' };
  if (ways.mail) return { way: 'mail' };
  return ways.oneClick ? { way: byHand, why: 'not-signed' } : { way: byHand };
}
