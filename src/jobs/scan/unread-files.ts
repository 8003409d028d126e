import type { MessageRecord } from '../../core/mailbox/record';
import { difference, rangesOf } from '../../core/sets/ranges';
import type { MailServer } from '../../mail/server';
import type { Database } from '../../store/database';
import { giveUpFiles, unreadFiles, writeFiles } from '../../store/index/files';
import { foldersOf, generationsOf } from '../../store/index/folders';
import type { Fence } from '../fence';

/** Messages whose structure is read, and written, together. */
const AT_ONCE = 2_000;

/** Reads the structure of messages that were indexed before their files were. Of a mailbox that has none it asks nothing. */
export async function readUnreadFiles(
  database: Database,
  account: number,
  server: MailServer,
  fenced: Fence,
): Promise<void> {
  for (let unread = await unreadFiles(database, account, AT_ONCE); unread.length > 0; ) {
    const names = new Map((await foldersOf(database, account)).map(({ id, serverName }) => [id, serverName]));
    const generations = await generationsOf(database, account);
    for (const { generation, folder, uids } of unread) {
      const open = await server.open(names.get(folder) ?? '');
      const records: MessageRecord[] = [];
      if (open.uidValidity === generations.get(folder)?.uidValidity)
        for await (const read of server.metadata(uids)) records.push(...read);
      await fenced(async (client) => {
        await writeFiles(client, account, generation, records);
        await giveUpFiles(client, account, generation, difference(uids, rangesOf(records.map(({ uid }) => uid))));
      });
    }
    unread = await unreadFiles(database, account, AT_ONCE);
  }
}
