import type { Account } from '../../../store/access/accounts';
import { canSignIn, saveSecret } from '../../../store/access/credentials';
import { signOutAll } from '../../../store/access/sessions';
import type { Vault } from '../../../store/access/vault';
import type { Queryable } from '../../../store/database';
import { type HostMailbox, mailboxById } from '../../../store/host/mailboxes';
import { type Operator, operatorById } from '../../../store/host/operators';
import { roundOfAccount } from '../../../store/host/rounds';
import { type WayIn, wayInto } from '../sign-in';

/** How an operator gets into a mailbox now; undefined where they have to sign in first. */
export async function wayNow(
  client: Queryable,
  vault: Vault,
  operator: Operator,
  place: HostMailbox,
): Promise<WayIn | undefined> {
  if (operator.state !== 'active' && !place.hasPassword) return undefined;
  return wayInto({ database: client, vault }, operator, place);
}

/** Keeps how to sign in to an account, unless something is kept that can be used. */
export async function provide(client: Queryable, vault: Vault, account: Account, way: WayIn): Promise<void> {
  if (await canSignIn(client, vault, account.id)) return;
  // What was signed in with another credential, before the host took it no more, is not who has the new one.
  if (account.state === 'locked') await signOutAll(client, account.id);
  await saveSecret(client, vault, account.id, way);
}

/**
 * Sees to it that the account of a round can be signed in to, where its operator signed in since its credential was forgotten or
 * refused: one that was refused is not tried again and again.
 *
 * @param standing a standing lot for which it is needed: one that the owner made is none of the operator's; null for a round itself.
 * @returns whether it can be.
 */
export async function provideFromOperator(
  client: Queryable,
  vault: Vault,
  account: Account,
  standing: number | null,
  now: Date,
): Promise<boolean> {
  if (await canSignIn(client, vault, account.id)) return true;
  const of = await roundOfAccount(client, account.id, standing);
  const operator = of && (await operatorById(client, of.operator));
  const place = of && (await mailboxById(client, of.operator, of.mailbox, now));
  const way = operator && place && (await wayNow(client, vault, operator, place));
  if (!way) return false;
  await provide(client, vault, account, way);
  return true;
}
