import { type Account, accountsOfSession } from '../store/access/accounts';
import { sessionHolds, touchSession } from '../store/access/sessions';
import { accountOfToken, tokenLives } from '../store/access/tokens';
import type { Database } from '../store/database';
import { type Operator, operatorsOfSession } from '../store/host/operators';
import { tokenHashOf } from './cookie';
import type { Environment } from './environment';
import { Problem } from './problem';

/** Who asks. */
export interface Identity {
  /** Of the session's cookie; undefined for a script's token. */
  sessionHash: Buffer | undefined;
  /** The number of a script's token, among those of its account. */
  token: number | undefined;
  accounts: Account[];
  /** Operators of mail hosts whom it holds. */
  operators: Operator[];
  /** Whether anything may be changed. */
  acts: boolean;
}

/**
 * Tells who asks, by a token in Authorization (RFC 6750 §2.1) or by the session's cookie; undefined where nobody known. A
 * request with a token is that token's and nobody else's.
 *
 * @throws Problem 401 where the token is none that lives.
 */
export async function identityOf(request: Request, environment: Environment): Promise<Identity | undefined> {
  const { database } = environment;
  const authorization = request.headers.get('authorization') ?? '';
  // Other schemes are a proxy's in front of us.
  if (/^Bearer\b/i.test(authorization)) {
    const token = /^Bearer +([\w.~+/=-]+)$/i.exec(authorization)?.[1];
    const found = token === undefined ? undefined : await accountOfToken(database, token);
    if (found)
      return { sessionHash: undefined, token: found.id, accounts: [found.account], operators: [], acts: found.acts };
    throw new Problem(
      401,
      'token-not-valid',
      'Token not valid',
      'This token is unknown, revoked or expired. Create another in the settings.',
      undefined,
      { 'www-authenticate': 'Bearer error="invalid_token"' },
    );
  }
  const hash = tokenHashOf(request, environment);
  if (!hash || !(await touchSession(database, hash))) return undefined;
  const [accounts, operators] = await Promise.all([
    accountsOfSession(database, hash),
    operatorsOfSession(database, hash),
  ]);
  return { sessionHash: hash, token: undefined, accounts, operators, acts: true };
}

/** Whether who asked may still see an account, without prolonging a session. */
export function stillSees(database: Database, { sessionHash, token }: Identity, account: number): Promise<boolean> {
  return sessionHash ? sessionHolds(database, sessionHash, account) : tokenLives(database, account, token as number);
}

/** A script may change what its token lets it. */
export function mayNot(detail: string): Problem {
  return new Problem(403, 'token-may-not', 'Not with this token', detail, undefined, {
    'www-authenticate': 'Bearer error="insufficient_scope"',
  });
}
