import { randomBytes } from 'node:crypto';
import { type Queryable, row } from '../database';
import { hashToken } from './sessions';
import type { Vault } from './vault';

/** An authorization that was begun, as whoever began it writes it down. */
type Request = object;

/** For what the vault seals. */
const OWNER = 'authorization';

/**
 * Keeps a request; gives the secret that ties it to a browser, which is kept nowhere.
 *
 * @param seconds how long it lives.
 * @param interval seconds before it may be asked about.
 */
export async function keepRequest(
  db: Queryable,
  vault: Vault,
  request: Request,
  seconds: number,
  interval = 0,
): Promise<string> {
  const token = randomBytes(32).toString('base64url');
  await db.query(
    `insert into authorization_request (token_hash, sealed, ask_at, ends_at)
     values ($1, $2, now() + make_interval(secs => $3), now() + make_interval(secs => $4))`,
    [hashToken(token), vault.seal(OWNER, JSON.stringify(request)), interval, seconds],
  );
  return token;
}

/** Takes a request out, so that it is answered once; undefined where there is none that lives. */
export async function takeRequest<R extends Request>(
  db: Queryable,
  vault: Vault,
  hash: Buffer,
): Promise<R | undefined> {
  const taken = await row<{ sealed: Buffer }>(
    db,
    'delete from authorization_request where token_hash = $1 and ends_at > now() returning sealed',
    [hash],
  );
  const text = taken && vault.unseal(OWNER, taken.sealed);
  return text === undefined ? undefined : (JSON.parse(text) as R);
}

/**
 * A request that may be asked about now, locked until the transaction of the caller's ends; `early` where it may not yet,
 * undefined where there is none that lives.
 */
export async function requestToAskAbout<R extends Request>(
  db: Queryable,
  vault: Vault,
  hash: Buffer,
): Promise<R | 'early' | undefined> {
  const found = await row<{ sealed: Buffer; early: boolean }>(
    db,
    `select sealed, ask_at > now() as early from authorization_request
     where token_hash = $1 and ends_at > now() for update`,
    [hash],
  );
  const text = found && vault.unseal(OWNER, found.sealed);
  if (text === undefined) return undefined;
  return found?.early ? 'early' : (JSON.parse(text) as R);
}

/** Writes a request down as it is now, and lets it be asked about again after so many seconds. */
export async function putOff(
  db: Queryable,
  vault: Vault,
  hash: Buffer,
  request: Request,
  seconds: number,
): Promise<void> {
  await db.query(
    'update authorization_request set sealed = $2, ask_at = now() + make_interval(secs => $3) where token_hash = $1',
    [hash, vault.seal(OWNER, JSON.stringify(request)), seconds],
  );
}

export async function forgetOverdueRequests(db: Queryable): Promise<void> {
  await db.query('delete from authorization_request where ends_at < now()');
}
