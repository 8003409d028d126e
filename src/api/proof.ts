import type { Account } from '../store/access/accounts';
import { credentialOf } from '../store/access/credentials';
import { isProven } from '../store/access/proofs';
import type { Queryable } from '../store/database';
import type { Environment } from './environment';
import type { Identity } from './identity';
import { Problem } from './problem';

/** Minutes for which a sign-in, or a password that was typed again, is good for what matters most. */
export const GOOD_FOR_MINUTES = 10;

/**
 * Asks whoever holds a session to show again that the mailbox is theirs: a browser that was left open is no proof. A script's
 * token was made with a proof, and needs none.
 *
 * @throws Problem 403 that says how: by the `password`, or by the host's `authorization`.
 */
export async function wantProof(
  db: Queryable,
  { vault }: Environment,
  identity: Identity | undefined,
  account: Account,
): Promise<void> {
  const session = identity?.sessionHash;
  if (!session || (await isProven(db, session, 'account', account.id, GOOD_FOR_MINUTES))) return;
  const kept = (await credentialOf(db, vault, account.id))?.secret;
  const how = kept && !('password' in kept) ? 'authorization' : 'password';
  throw new Problem(
    403,
    'prove-again',
    'Show that it is you',
    how === 'password'
      ? 'Enter the password of the mailbox again, then continue.'
      : 'Sign in at your provider again, then continue.',
    [{ field: 'proof', expected: how }],
  );
}
