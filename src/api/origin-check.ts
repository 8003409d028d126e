import { theEnvironment } from './environment';
import { Problem } from './problem';

/**
 * Lets a request in, or says why not: the Host must be one of ours, a foreign Origin is refused, and what a foreign
 * page embeds or downloads is refused too. A request without Origin is a script, and allowed.
 */
export function checkOrigin(request: Request): Response | undefined {
  const environment = theEnvironment();
  const host = request.headers.get('host') ?? '';
  if (!environment.isOwnHost(host)) {
    return new Problem(
      421,
      'unknown-host',
      'Unknown host',
      'Tamsel does not answer under this name. Set TAMSEL_ORIGIN to the address that you use.',
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
      'Another site sent this request. Tamsel accepts requests from its own pages only.',
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
