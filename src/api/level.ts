import { targetBytes } from '../core/level/level';
import { type Account, versionOf } from '../store/accounts';
import type { Database } from '../store/database';
import { accountLevel, bytesCountedOnce } from '../store/level';
import { quotaRoots } from '../store/quota-roots';

/** The level as the API tells it. */
export async function shownLevel(database: Database, account: Account) {
  const version = await versionOf(database, account.id);
  const { reading, readings, planAndTrash, ...level } = await accountLevel(database, account);
  const { target } = account.settings;
  const limited = reading?.messageLimit != null;
  const messages = limited ? (reading.messages ?? 0) : level.mail.messages + level.trash.messages;
  return {
    ...level,
    // Only where the server counts less than all copies together does it help to know.
    ...(level.difference < 0 ? { once: await bytesCountedOnce(database, account.id) } : {}),
    roots: await quotaRoots(database, account.id),
    ...(limited ? { messageLimit: reading.messageLimit, messagesUsed: messages } : {}),
    afterMessages: Math.max(0, messages - planAndTrash.messages),
    target,
    targetBytes: targetBytes(target, level.limit),
    readings,
    version,
    at: reading?.at ?? new Date(),
  };
}
