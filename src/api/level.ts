import { targetBytes } from '../core/level/level';
import { type Account, versionOf } from '../store/access/accounts';
import type { Database } from '../store/database';
import { bytesCountedOnce } from '../store/index/counted-bytes';
import { quotaRoots } from '../store/index/quota-roots';
import { filePlanOf } from '../store/plan/file-lots';
import { accountLevel } from '../store/plan/level';
import { spacesOf } from '../store/space/spaces';
import { filesInLevel } from './spaces';

/** The level as the API tells it. */
export async function shownLevel(database: Database, account: Account) {
  const version = await versionOf(database, account.id);
  const { reading, readings, planAndTrash, ...level } = await accountLevel(database, account);
  const { target } = account.settings;
  const messageLimit = reading?.messageLimit ?? null;
  const messages = messageLimit !== null ? (reading?.messages ?? 0) : level.mail.messages + level.trash.messages;
  const spaces = await spacesOf(database, account.id);
  const { outsideTrash } = await filePlanOf(database, account.id);
  const space = filesInLevel(spaces, outsideTrash, reading, level.used, level.mail.bytes + level.trash.bytes);
  const filesToGo = space && level.usedBy === 'server' ? space.trash.bytes + space.plan.bytes : 0;
  return {
    ...level,
    ...(space ? { space, after: Math.max(0, level.after - filesToGo) } : {}),
    // Only where the server counts less than all copies together does it help to know.
    ...(level.difference < 0 ? { once: await bytesCountedOnce(database, account.id) } : {}),
    roots: await quotaRoots(database, account.id),
    ...(messageLimit === null ? {} : { messageLimit, messagesUsed: messages }),
    afterMessages: Math.max(0, messages - planAndTrash.messages),
    target,
    targetBytes: targetBytes(target, level.limit),
    readings,
    version,
    at: reading?.at ?? new Date(),
  };
}
