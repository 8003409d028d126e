import * as v from 'valibot';
import * as s from '../../contract/schemas';
import { trashFolder, trashFolders } from '../../core/mailbox/folders';
import { readLevel } from '../../jobs/sync/folder-listing';
import { saveSettings } from '../../store/access/accounts';
import { transaction } from '../../store/database';
import { tell } from '../../store/events';
import { foldersOf } from '../../store/index/folders';
import { type TrashLot, trashGroups, trashLots } from '../../store/runs/trash-groups';
import { onServer } from '../on-server';
import { conflict } from '../problem';
import { route } from '../route';

const DAY_MS = 86_400_000;

export const getTrash = route({
  method: 'GET',
  path: '/accounts/{account}/trash',
  summary:
    'Returns what is in the trash, by the run that moved it there, and when the server is expected to delete it.',
  response: s.Trash,
  async handle({ environment, account }) {
    const folders = await foldersOf(environment.database, account.id);
    const { trashDays, trashFolder: named } = account.settings;
    const trash = trashFolders(folders, named).map(({ id }) => id);
    const groups = await trashGroups(environment.database, account.id, trash);
    const lots = await trashLots(environment.database, account.id, trash);
    const drop = (at: Date) => new Date(at.getTime() + (trashDays ?? 0) * DAY_MS);
    return {
      folder: trashFolder(folders, named)?.path ?? null,
      days: trashDays,
      groups: groups.map((group) => ({
        ...group,
        lots: severalOf(lots.filter(({ run }) => run === group.run)),
        dropped:
          trashDays !== null && group.first && group.last ? { first: drop(group.first), last: drop(group.last) } : null,
      })),
    };
  },
});

/** One lot is its run. */
function severalOf(lots: readonly TrashLot[]) {
  return lots.length < 2 ? [] : lots.map(({ run: _, ...lot }) => lot);
}

export const createTrash = route({
  method: 'POST',
  path: '/accounts/{account}/trash',
  summary: 'Creates a trash folder on the server, marked as such if the server supports it (RFC 6154).',
  body: v.object({ name: v.optional(v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(200)), 'Trash') }),
  status: 201,
  response: v.object({ folder: v.string() }),
  async handle({ environment, account, body }) {
    const { database } = environment;
    if (trashFolder(await foldersOf(database, account.id), account.settings.trashFolder))
      throw conflict('wrong-state', 'This mailbox already has a trash folder.');
    const path = await onServer(environment, account, 'The folder was not created', async (server) => {
      const listed = await server.folders();
      const separator = listed.find(({ delimiter }) => delimiter !== null)?.delimiter ?? '/';
      const name = server.serverNameOf(`${server.personalPrefix}${body.name.replaceAll('/', separator)}`);
      if (!listed.some(({ serverName }) => serverName === name)) await server.createFolder(name, 'trash');
      const now = await readLevel(database, account.id, server);
      return now.find(({ serverName }) => serverName === name)?.path ?? body.name;
    });
    await transaction(database, async (client) => {
      // Where the server does not mark it, the user's word stands for that.
      await saveSettings(client, account.id, { trashFolder: path });
      await tell(client, account.id, 'level', {});
    });
    return { folder: path };
  },
});
