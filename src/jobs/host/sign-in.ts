import { connectImap } from '../../mail/imap/connect';
import { MailProblem } from '../../mail/problem';
import type { MailServer } from '../../mail/server';
import type { Vault } from '../../store/access/vault';
import type { Queryable } from '../../store/database';
import { type HostMailbox, mailboxPassword } from '../../store/host/mailboxes';
import { type Operator, operatorPassword } from '../../store/host/operators';
import type { SignInContext } from '../sign-in';

/** How an operator gets into a mailbox: with its own password, or with theirs, which only ever goes to their own server. */
export type WayIn = { password: string; signInAs?: string };

/** @returns undefined where no password is kept that can be used. */
export async function wayInto(
  { database, vault }: { database: Queryable; vault: Vault },
  operator: Operator,
  mailbox: Pick<HostMailbox, 'id' | 'host' | 'port' | 'security' | 'user'>,
): Promise<WayIn | undefined> {
  const own = await mailboxPassword(database, vault, operator.id, mailbox);
  if (own !== undefined) return { password: own };
  if (mailbox.host !== operator.host || mailbox.port !== operator.port) return undefined;
  const password = await operatorPassword(database, vault, operator);
  if (password === undefined) return undefined;
  return mailbox.user === operator.user ? { password } : { password, signInAs: operator.user };
}

/**
 * Signs in to a mailbox for an operator; the host is asked each time whether it lets them.
 *
 * @throws MailProblem `password-refused` where it does not, or where nothing is kept to sign in with.
 */
export async function signInFor(
  context: SignInContext,
  operator: Operator,
  mailbox: Pick<HostMailbox, 'id' | 'host' | 'port' | 'security' | 'user'>,
): Promise<MailServer> {
  const way = await wayInto(context, operator, mailbox);
  if (!way) throw new MailProblem('password-refused', `There is no password for ${mailbox.user}. Enter one.`);
  // The operator's password goes with the security that they signed in with.
  const { host, port, user } = mailbox;
  const security = way.signInAs === undefined ? mailbox.security : operator.security;
  return connectImap({ host, port, security, user, ...way }, context.outbound);
}
