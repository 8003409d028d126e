import type { ListedFolder, MailServer } from '../mail/server';
import { savePersonalPrefix } from '../store/accounts';
import { type Database, transaction } from '../store/database';
import { tell } from '../store/events';
import { saveListing } from '../store/folders';
import { saveReading } from '../store/readings';

/**
 * Reads and keeps what the level needs: every folder with its figures, and the quota. Two round trips where the server
 * has LIST-STATUS.
 */
export async function readLevel(database: Database, account: number, server: MailServer): Promise<ListedFolder[]> {
  const listed = await server.folders();
  const quota = await server.quota();
  await transaction(database, async (client) => {
    await savePersonalPrefix(client, account, server.personalPrefix);
    await saveListing(client, account, listed);
    if (quota) await saveReading(client, account, quota);
    await tell(client, account, 'level', {});
  });
  return listed;
}
