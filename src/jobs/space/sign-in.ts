import type { SpaceCredential } from '../../dav/authorization';
import { DavClient, type Watch } from '../../dav/client';
import type { Account } from '../../store/access/accounts';
import { type FileSpace, SecretLost, spaceSecret } from '../../store/space/spaces';
import { credentialFor, renewedToken, type SignInContext, SignInNeeded } from '../sign-in';

/**
 * A client for a file space, which signs in with what is kept for it, or as to the mailbox. A token of the mailbox is renewed where the
 * server takes it no more.
 *
 * @throws SignInNeeded where nothing is kept that can be shown.
 */
export async function openSpace(
  context: SignInContext,
  account: Account,
  space: FileSpace,
  watch?: Watch,
): Promise<DavClient> {
  if (space.state === 'locked') throw new SignInNeeded();
  const credential = await credentialOfSpace(context, account, space);
  return DavClient.open(new URL(space.origin), credential, context.outbound, watch);
}

async function credentialOfSpace(context: SignInContext, account: Account, space: FileSpace): Promise<SpaceCredential> {
  const own = await spaceSecret(context.database, context.vault, account.id, space.id).catch((error: unknown) => {
    throw error instanceof SecretLost ? new SignInNeeded() : error;
  });
  return own ?? mailboxCredential(context, account);
}

/** What a file space is shown that is signed in to as to the mailbox. */
export async function mailboxCredential(context: SignInContext, account: Account): Promise<SpaceCredential> {
  const kept = await credentialFor(context, account);
  // The password is an operator's, and opens nothing of the owner's elsewhere.
  if ('signInAs' in kept && kept.signInAs) throw new SignInNeeded();
  if (!('token' in kept)) return { user: account.user, password: kept.password };
  return { token: kept.token, renew: () => renewedToken(context, account, kept.token) };
}
