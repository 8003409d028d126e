import type { OutboundConfig } from './outbound-config';
import { MailProblem } from './problem';
import { askWeb } from './web';

/** Whoever is asked may take long to strike a name off a list. */
const PATIENCE_MS = 20_000;

/** What became of asking by one click. `unclear`: it was sent, and nobody knows whether it was taken. */
export type OneClickAnswer = { outcome: 'taken' } | { outcome: 'refused' | 'unclear' | 'not-reached'; detail: string };

/**
 * Asks a sender to stop (RFC 8058 §3.2): one POST over TLS, without a cookie, a referrer or a name of who asks, and without
 * following where it is sent on to: a redirected POST is no POST any more, and may lead anywhere.
 *
 * @param uri that the message names and its signature covers.
 */
export async function askByOneClick(uri: string, outbound: OutboundConfig): Promise<OneClickAnswer> {
  const url = new URL(uri);
  if (url.protocol !== 'https:') return { outcome: 'refused', detail: 'Its address is not secured by TLS.' };
  let answer: Response;
  try {
    answer = await askWeb(
      url,
      {
        method: 'POST',
        headers: { 'content-type': 'application/x-www-form-urlencoded' },
        body: 'List-Unsubscribe=One-Click',
        patienceMs: PATIENCE_MS,
        statusOnly: true,
      },
      outbound,
    );
  } catch (error) {
    // Checked before anything was sent.
    if (error instanceof MailProblem) return { outcome: 'not-reached', detail: error.message };
    const { code } = error as NodeJS.ErrnoException;
    const isUnsent = code !== undefined && UNSENT.has(code);
    return isUnsent
      ? { outcome: 'not-reached', detail: `Its server ${url.host} can’t be reached (${code}).` }
      : { outcome: 'unclear', detail: `Its server ${url.host} gave no answer that can be read.` };
  }
  const { status } = answer;
  if (status >= 200 && status < 300) return { outcome: 'taken' };
  if (status >= 300 && status < 400)
    return { outcome: 'refused', detail: `Its server sends to another page, where Tamsel does not follow.` };
  return status >= 500
    ? { outcome: 'unclear', detail: `Its server failed (status ${status}).` }
    : { outcome: 'refused', detail: `Its server refused (status ${status}).` };
}

/** Of a connection that never stood. */
const UNSENT = new Set([
  'ECONNREFUSED',
  'ENOTFOUND',
  'EAI_AGAIN',
  'EHOSTUNREACH',
  'ENETUNREACH',
  'ERR_TLS_CERT_ALTNAME_INVALID',
  'DEPTH_ZERO_SELF_SIGNED_CERT',
  'SELF_SIGNED_CERT_IN_CHAIN',
  'UNABLE_TO_VERIFY_LEAF_SIGNATURE',
  'UNABLE_TO_GET_ISSUER_CERT_LOCALLY',
  'CERT_HAS_EXPIRED',
]);
