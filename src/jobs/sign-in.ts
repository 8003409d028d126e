import type { Tokens } from '../core/authorization/tokens';
import { clientFor } from '../mail/authorization/clients';
import { Grants } from '../mail/authorization/grants';
import { connectImap } from '../mail/imap/connect';
import type { OutboundConfig } from '../mail/outbound-config';
import { MailProblem, type MailProblemKind } from '../mail/problem';
import type { Credential, MailServer, ServerAddress } from '../mail/server';
import type { Account } from '../store/access/accounts';
import { credentialOf, lockAccount, replaceTokens } from '../store/access/credentials';
import type { Vault } from '../store/access/vault';
import { type Database, transaction } from '../store/database';

/** There are no credentials that can be used: somebody has to sign in first. */
export class SignInNeeded extends Error {}

/** What signing in needs. */
export interface SignInContext {
  database: Database;
  vault: Vault;
  outbound: OutboundConfig;
}

const LOCKS = new Set<MailProblemKind>(['password-refused', 'token-refused', 'authorization-refused']);

/**
 * Connects to an account's server with its stored credentials; an access token that has run out, or that the server takes no
 * more, is renewed first. Credentials that are refused lock the account.
 */
export async function signInTo(context: SignInContext, account: Account): Promise<MailServer> {
  const { database, vault, outbound } = context;
  const credential = await credentialOf(database, vault, account.id);
  if (!credential || account.state === 'locked') throw new SignInNeeded();
  const { secret } = credential;
  try {
    if (!('tokens' in secret)) return await connectImap({ ...placeOf(account), ...secret }, outbound);
    return await showTokens(context, account, secret.tokens);
  } catch (error) {
    if (error instanceof MailProblem && LOCKS.has(error.kind)) {
      await lockAccount(database, account.id, credential);
      throw new SignInNeeded();
    }
    throw error;
  }
}

/**
 * What an account's other servers are shown: the same password, or a token that has not run out. Credentials stay as they are where
 * these refuse them.
 */
export async function credentialFor(context: SignInContext, account: Account): Promise<Credential> {
  const credential = await credentialOf(context.database, context.vault, account.id);
  if (!credential || account.state === 'locked') throw new SignInNeeded();
  const { secret } = credential;
  if (!('tokens' in secret)) return secret;
  const { tokens } = secret;
  const isSpent = tokens.renewAt !== null && tokens.renewAt <= Date.now();
  return { token: (isSpent && tokens.refresh ? await renewed(context, account, tokens) : tokens).access };
}

/** The access token behind one that another server takes no more; undefined where none comes. */
export async function renewedToken(
  context: SignInContext,
  account: Account,
  spent: string,
): Promise<string | undefined> {
  const { secret } = (await credentialOf(context.database, context.vault, account.id)) ?? {};
  if (!secret || !('tokens' in secret)) return undefined;
  const { tokens } = secret;
  if (tokens.access !== spent) return tokens.access;
  return tokens.refresh ? (await renewed(context, account, tokens)).access : undefined;
}

function placeOf({ host, port, security, user }: Account): ServerAddress {
  return { host, port, security, user };
}

async function showTokens(context: SignInContext, account: Account, kept: Tokens): Promise<MailServer> {
  const isSpent = kept.renewAt !== null && kept.renewAt <= Date.now();
  const tokens = isSpent && kept.refresh ? await renewed(context, account, kept) : kept;
  const connect = ({ access }: Tokens) => connectImap({ ...placeOf(account), token: access }, context.outbound);
  try {
    return await connect(tokens);
  } catch (error) {
    // A host may take an access token back before its time, and give another for the same refresh token.
    const isWorthRenewing = error instanceof MailProblem && error.kind === 'token-refused' && tokens === kept;
    if (!isWorthRenewing || !kept.refresh) throw error;
    return connect(await renewed(context, account, kept));
  }
}

/**
 * Asks for the next access token, one asker at a time: a server that gives a new refresh token with it takes the use of the
 * old one for theft, and all tokens back (RFC 9700 §4.14.2).
 */
async function renewed({ database, vault, outbound }: SignInContext, account: Account, spent: Tokens): Promise<Tokens> {
  return transaction(database, async (client) => {
    const { secret } = (await credentialOf(client, vault, account.id, true)) ?? {};
    if (!secret || !('tokens' in secret)) throw new SignInNeeded();
    if (secret.tokens.access !== spent.access) return secret.tokens;
    const registered = clientFor(account.host, outbound.authorization);
    // Nobody can renew them, so the account is locked as where the server refuses to.
    if (!registered || !secret.tokens.refresh)
      throw new MailProblem(
        'token-refused',
        `Tamsel can’t renew the authorization for ${account.user} on this installation.`,
      );
    const tokens = await new Grants(registered, outbound).renew(secret.tokens.refresh);
    await replaceTokens(client, vault, account.id, tokens);
    return tokens;
  });
}
