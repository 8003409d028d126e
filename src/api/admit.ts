import { theEnvironment } from './environment';
import { Problem } from './problem';

/**
 * Lets a request in, or says why not: the Host must be one of ours, a foreign Origin is refused, and what a foreign
 * page embeds or downloads is refused too. A request without Origin is a script, and allowed.
 */
export function admit(request: Request): Response | undefined {
  const environment = theEnvironment();
  const host = request.headers.get('host') ?? '';
  if (!environment.isOwnHost(host)) {
    return new Problem(
      421,
      'unknown-host',
      'Unknown host',
      'Tamsel is not reached by this name. Set TAMSEL_ORIGIN to the address that you use.',
    ).toResponse();
  }
  const origin = request.headers.get('origin');
  const foreign = origin !== null && !isOwnOrigin(origin, environment.isOwnHost);
  const site = request.headers.get('sec-fetch-site');
  const embedded = site === 'cross-site' && request.headers.get('sec-fetch-mode') !== 'navigate';
  const crossNavigationToApi = site === 'cross-site' && new URL(request.url).pathname.startsWith('/api/');
  if (foreign || embedded || crossNavigationToApi) {
    return new Problem(
      403,
      'foreign-origin',
      'Foreign origin',
      'Another site asked for this, and other sites are not served.',
    ).toResponse();
  }
  return undefined;
}

function isOwnOrigin(origin: string, isOwnHost: (host: string) => boolean): boolean {
  try {
    return isOwnHost(new URL(origin).host);
  } catch {
    return false;
  }
}

/** What every answer carries. */
export function securityHeaders(): Record<string, string> {
  const { origin } = theEnvironment();
  return { ...HEADERS, ...(origin?.protocol === 'https:' ? { 'strict-transport-security': 'max-age=31536000' } : {}) };
}

/** Own code only: no inline script, nothing remote, no frame. */
const HEADERS: Record<string, string> = {
  'content-security-policy':
    "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; connect-src 'self'; worker-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
  'x-content-type-options': 'nosniff',
  'referrer-policy': 'no-referrer',
  'cross-origin-opener-policy': 'same-origin',
};
