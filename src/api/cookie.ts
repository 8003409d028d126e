import { hashToken } from '../store/sessions';
import type { Environment } from './environment';

const MAX_AGE_SECONDS = 30 * 86_400;

/** Named by port, since cookies don't tell ports apart; bound to the host where there is https. */
function cookieName({ port, origin }: Environment): string {
  return origin?.protocol === 'https:' ? `__Host-tamsel-${port}` : `tamsel-${port}`;
}

export function tokenHashOf(request: Request, environment: Environment): Buffer | undefined {
  const name = cookieName(environment);
  for (const part of (request.headers.get('cookie') ?? '').split(';')) {
    const [key, value] = part.trim().split('=');
    if (key === name && value) return hashToken(value);
  }
  return undefined;
}

/** @param token '' takes the cookie away. */
export function sessionCookie(environment: Environment, token: string): string {
  const secure = environment.origin?.protocol === 'https:' ? '; Secure' : '';
  return `${cookieName(environment)}=${token}; Path=/; HttpOnly; SameSite=Strict; Max-Age=${token === '' ? 0 : MAX_AGE_SECONDS}${secure}`;
}
