import { connectImap } from '../mail/imap/connect';
import type { Outgoing } from '../mail/outgoing';
import { MailProblem } from '../mail/problem';
import type { MailServer } from '../mail/server';
import { type Account, lockAccount } from '../store/accounts';
import { credentialOf } from '../store/credentials';
import type { Database } from '../store/database';
import type { Vault } from '../store/vault';

/** There are no credentials that can be used: somebody has to sign in first. */
export class SignInNeeded extends Error {}

/** Connects to an account's server with its stored credentials. A refused password locks the account. */
export async function signInTo(
  context: { database: Database; vault: Vault; outgoing: Outgoing },
  account: Account,
): Promise<MailServer> {
  const { database, vault, outgoing } = context;
  const sealed = await credentialOf(database, account.id);
  const password = sealed && vault.unseal(account.id, sealed);
  if (password === undefined) throw new SignInNeeded();
  try {
    return await connectImap({ ...account, password }, outgoing);
  } catch (error) {
    if (error instanceof MailProblem && error.kind === 'password-refused') {
      await lockAccount(database, account.id);
      throw new SignInNeeded();
    }
    throw error;
  }
}
