/** What an authorization server gave (RFC 6749 §5.1). */
export interface Tokens {
  access: string;
  /** With which the next access token is asked for; undefined where there is none. */
  refresh?: string | undefined;
  /** When the access token is to be renewed, milliseconds since 1970; null where the server did not say. */
  renewAt: number | null;
}

/** An access token is renewed so long before it runs out, so that it does not on the way. Milliseconds. */
const MARGIN = 30_000;
/** Of the life of one that lives shorter than that. */
const MARGIN_SHARE = 0.2;

/** When an access token that was given at an instant, for so many seconds, is to be renewed. */
export function renewalOf(givenAt: number, seconds: number | undefined): number | null {
  if (seconds === undefined) return null;
  const life = seconds * 1000;
  return givenAt + life - Math.min(MARGIN, life * MARGIN_SHARE);
}
