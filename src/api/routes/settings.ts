import * as s from '../../contract/schemas';
import { needsFinalizing, saveSettings } from '../../store/access/accounts';
import { transaction } from '../../store/database';
import { tell } from '../../store/events';
import { chooseRoles, foldersOf } from '../../store/index/folders';
import { openScan } from '../../store/index/scans';
import { enqueue } from '../../store/jobs';
import { invalid } from '../problem';
import { route } from '../route';
import { shownSettings } from '../shown';

export const getSettings = route({
  method: 'GET',
  path: '/accounts/{account}/settings',
  summary: 'Returns the settings of an account.',
  response: s.Settings,
  handle: async ({ environment, account }) => shownSettings(account, environment.canMail),
});

export const changeSettings = route({
  method: 'PATCH',
  path: '/accounts/{account}/settings',
  summary: 'Changes the settings that you send. The others stay.',
  body: s.SettingsChange,
  response: s.Settings,
  async handle({ environment, account, body }) {
    const { database } = environment;
    const folders = await foldersOf(database, account.id);
    const named = Object.entries(body.roles ?? {}).map(([role, path]) => [`roles.${role}`, path] as const);
    for (const [field, wanted] of [['trashFolder', body.trashFolder] as const, ...named])
      if (wanted && !folders.some(({ path, repeats }) => path === wanted && !repeats))
        throw invalid('There is no such folder.', [{ field, expected: 'the path of a folder' }]);
    const changes = Object.fromEntries(Object.entries(body).filter(([, value]) => value !== undefined));
    await transaction(database, async (client) => {
      await saveSettings(client, account.id, changes);
      if (body.roles) {
        await chooseRoles(client, account.id, body.roles);
        if (await needsFinalizing(client, account.id)) {
          const { scan } = await openScan(client, account.id);
          await enqueue(client, account.id, 'scan', scan.id);
        }
      }
      await tell(client, account.id, 'level', {});
    });
    return { ...account.settings, ...changes, canMail: environment.canMail };
  },
});
