import { hashToken } from '../store/access/sessions';
import type { Environment } from './environment';

/**
 * What a cookie is for: a session, an authorization that was begun and has to come back to the same browser, or to know a
 * browser again that has signed in before.
 */
type Purpose = 'session' | 'authorizing' | 'browser';

const NAME: Record<Purpose, string> = {
  session: 'tamsel',
  authorizing: 'tamsel-authorizing',
  browser: 'tamsel-browser',
};
const AUTHORIZING_SECONDS = 30 * 60;
/** As long as browsers keep a cookie at most (RFC 6265bis). */
const BROWSER_SECONDS = 400 * 86_400;

/** Named by port, since cookies don't tell ports apart; bound to the host where there is https. */
function cookieName(purpose: Purpose, { port, origin }: Environment): string {
  return `${origin?.protocol === 'https:' ? '__Host-' : ''}${NAME[purpose]}-${port}`;
}

/** The hash of the secret in a cookie; undefined where there is none. */
export function tokenHashOf(
  request: Request,
  environment: Environment,
  purpose: Purpose = 'session',
): Buffer | undefined {
  const name = cookieName(purpose, environment);
  for (const part of (request.headers.get('cookie') ?? '').split(';')) {
    const [key, value] = part.trim().split('=');
    if (key === name && value) return hashToken(value);
  }
  return undefined;
}

/** @param token '' takes the cookie away. */
export function sessionCookie(environment: Environment, token: string): string {
  return cookie('session', environment, token);
}

/** @param token '' takes the cookie away. */
export function authorizingCookie(environment: Environment, token: string): string {
  return cookie('authorizing', environment, token);
}

/** Of a browser; good for nothing but to know it again. */
export function browserCookie(environment: Environment, token: string): string {
  return cookie('browser', environment, token);
}

function cookie(purpose: Purpose, environment: Environment, token: string): string {
  const secure = environment.origin?.protocol === 'https:' ? '; Secure' : '';
  const life = {
    session: environment.sessionLife.hours * 3_600,
    authorizing: AUTHORIZING_SECONDS,
    browser: BROWSER_SECONDS,
  }[purpose];
  const age = token === '' ? 0 : life;
  return `${cookieName(purpose, environment)}=${token}; Path=/; HttpOnly; SameSite=Strict; Max-Age=${age}${secure}`;
}
