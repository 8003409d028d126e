import { MailProblem } from '../../mail/problem';
import type { ListedFolder, MailServer } from '../../mail/server';
import { savePersonalPrefix } from '../../store/access/accounts';
import { type Database, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { foldersOf, saveListing } from '../../store/index/folders';
import { foldersWithoutRoot, rootNames, saveRoot, saveRootOf } from '../../store/index/quota-roots';
import { saveReading } from '../../store/index/readings';

/**
 * Reads and keeps what the level needs: every folder with its figures, and the quota. Two round trips where the server
 * has LIST-STATUS.
 */
export async function readLevel(database: Database, account: number, server: MailServer): Promise<ListedFolder[]> {
  const listed = await server.folders();
  const quota = await server.quota();
  await assertGone(database, account, server, listed);
  await transaction(database, async (client) => {
    await savePersonalPrefix(client, account, server.personalPrefix);
    await saveListing(client, account, listed);
    if (quota) await saveReading(client, account, quota);
    await tell(client, account, 'level', {});
  });
  await readRoots(database, account, server);
  return listed;
}

/** Folders of which it is asked whether they are gone, of those that are listed no more. */
const MAX_ASKED = 20;

/**
 * Asks in another way for folders that were known, hold messages, and are not listed any more, before all of their messages
 * are taken for gone.
 */
export async function assertGone(
  database: Database,
  account: number,
  server: MailServer,
  listed: readonly ListedFolder[],
): Promise<void> {
  const names = new Set(listed.map(({ serverName }) => serverName));
  const missing = (await foldersOf(database, account)).filter(
    ({ serverName, selectable, statusMessages }) => !names.has(serverName) && selectable && statusMessages > 0,
  );
  for (const { serverName, path } of missing.slice(0, MAX_ASKED))
    if (await server.status(serverName))
      throw new MailProblem(
        'unreadable-answer',
        `The server’s answers contradict each other: its list of folders does not contain ${path}, yet it says that the folder exists. Tamsel removed nothing from its index.`,
      );
}

/**
 * Asks to which quota root the folders belong, those at the top for all below them and each once; then only what each
 * further root says, so that a mailbox with one root costs no round trip more.
 */
async function readRoots(database: Database, account: number, server: MailServer): Promise<void> {
  if (!server.dialect.quota) return;
  for (const { id, serverName } of await foldersWithoutRoot(database, account)) {
    const root = await server.quotaRootOf(serverName);
    await saveRootOf(database, account, id, root);
  }
  const known = await rootNames(database, account);
  if (known.length < 2) return;
  for (const name of known) {
    const root = await server.quotaRoot(name);
    if (root) await saveRoot(database, account, root);
  }
}
