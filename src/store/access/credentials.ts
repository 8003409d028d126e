import type { Tokens } from '../../core/authorization/tokens';
import { type Queryable, row, theRow } from '../database';
import type { Vault } from './vault';

/** How to sign in to the mailbox of an account: what a person typed, or what an authorization server gave. */
export type Secret =
  | {
      password: string;
      /** Who signs in, where that is another than whose mailbox it is. */
      signInAs?: string | undefined;
    }
  | { tokens: Tokens };

/** A secret that is kept. */
export interface Credential {
  secret: Secret;
  /** Since when, as PostgreSQL says it: tokens that are renewed are the same credential still. */
  storedAt: string;
}

/** Where a mailbox is and whose: for this a credential is sealed, and in another place it does not open. */
type Place = [account: number, host: string, port: number, security: string, user: string, signInAs: string];

const OWNER = 'credential ';

async function ownerOf(db: Queryable, account: number): Promise<string> {
  const { place } = await theRow<{ place: Place }>(
    db,
    `select json_build_array(id, host, port, security, user_name, sign_in_as) as place from account where id = $1`,
    [account],
  );
  return OWNER + JSON.stringify(place);
}

/** The host for which a credential was sealed. */
export function hostOfOwner(owner: string): string {
  return (JSON.parse(owner.slice(OWNER.length)) as Place)[1];
}

/**
 * Keeps how to sign in, in a transaction of the caller's, and opens the account where it was locked for want of it. Tokens in
 * whose place a password comes are taken back.
 */
export async function saveSecret(db: Queryable, vault: Vault, account: number, secret: Secret): Promise<void> {
  // New tokens may be of the same authorization as the old ones, and would go with them (RFC 7009 §2.1).
  if (!('tokens' in secret)) await drop(db, account, `form = 'tokens'`);
  await db.query(
    `insert into credential (account, sealed, form) values ($1, $2, $3)
     on conflict (account) do update
     set sealed = excluded.sealed, form = excluded.form, forget = false, stored_at = now()`,
    [
      account,
      vault.seal(await ownerOf(db, account), JSON.stringify(secret)),
      'tokens' in secret ? 'tokens' : 'document',
    ],
  );
  await db.query(`update account set state = 'active' where id = $1`, [account]);
}

/**
 * Undefined where none is kept, or it can't be unsealed: then somebody has to sign in again.
 *
 * @param alone keeps others from it until the transaction of the caller's ends.
 */
export async function credentialOf(
  db: Queryable,
  vault: Vault,
  account: number,
  alone = false,
): Promise<Credential | undefined> {
  const kept = await row<{ sealed: Buffer; storedAt: string }>(
    db,
    `select sealed, stored_at::text as "storedAt" from credential where account = $1 ${alone ? 'for update' : ''}`,
    [account],
  );
  const text = kept && vault.unseal(await ownerOf(db, account), kept.sealed);
  if (!kept || text === undefined) return undefined;
  return { secret: JSON.parse(text) as Secret, storedAt: kept.storedAt };
}

/**
 * Keeps the worker away from a host that refused a credential, until somebody signs in; somebody who did so meanwhile is not
 * locked out for what was kept before.
 */
export async function lockAccount(
  db: Queryable,
  account: number,
  { storedAt }: Pick<Credential, 'storedAt'>,
): Promise<void> {
  await db.query(
    `update account set state = 'locked' where id = $1
     and exists (select 1 from credential c where c.account = $1 and c.stored_at = $2::timestamptz)`,
    [account, storedAt],
  );
}

/** Whether there is a credential that can be used and was not refused. */
export async function canSignIn(db: Queryable, vault: Vault, account: number): Promise<boolean> {
  const active = await row(db, `select 1 from account where id = $1 and state = 'active'`, [account]);
  return active !== undefined && (await credentialOf(db, vault, account)) !== undefined;
}

/** Puts renewed tokens in the place of those that they renew, whether or not they are about to be forgotten. */
export async function replaceTokens(db: Queryable, vault: Vault, account: number, tokens: Tokens): Promise<void> {
  await db.query(`update credential set sealed = $2, form = 'tokens' where account = $1`, [
    account,
    vault.seal(await ownerOf(db, account), JSON.stringify({ tokens })),
  ]);
}

/** Forgets credentials at once where nothing is going, else when it has ended. */
export async function forgetCredential(db: Queryable, account: number): Promise<void> {
  await db.query('update credential set forget = true where account = $1', [account]);
  await dropForgotten(db, account);
}

/**
 * Forgets credentials that are to be forgotten, where no run needs them. A run that ends and somebody who signs out at that
 * moment wait for each other here: else each would leave the credentials to the other.
 */
export async function dropForgotten(db: Queryable, account: number): Promise<void> {
  await db.query('select from credential where account = $1 for update', [account]);
  await drop(
    db,
    account,
    `forget and not exists (select 1 from job j where j.account = $1 and j.kind = 'run' and j.done_at is null)`,
  );
  await dropSpaceSecrets(db, account);
}

/** Forgets credentials whatever is going. */
export async function dropCredential(db: Queryable, account: number): Promise<void> {
  await drop(db, account, 'true');
  await dropSpaceSecrets(db, account);
}

/** With the credentials of a mailbox go the passwords of its file spaces. */
async function dropSpaceSecrets(db: Queryable, account: number): Promise<void> {
  await db.query(
    `update space set user_name = null, sealed = null, state = 'locked' where account = $1 and sealed is not null
     and not exists (select 1 from credential where account = $1)`,
    [account],
  );
}

/** Those that an authorization server gave are noted, to be taken back there. */
async function drop(db: Queryable, account: number, condition: string): Promise<void> {
  await db.query(
    `with gone as (delete from credential where account = $1 and ${condition} returning account, sealed, form)
     insert into withdrawal (account, owner, sealed) select account, $2, sealed from gone where form = 'tokens'`,
    [account, await ownerOf(db, account)],
  );
}
