import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { withWarnings } from '../../stand-in/scenario/warnings';
import { App, cleanUp, DAY, startStandIn, tinyScenario, until } from '../harness';

after(cleanUp);

test('of three messages that say the mailbox is full one comes from the host; the others ask for a link, and nobody follows it', async () => {
  const host = await startStandIn({ scenario: withWarnings(tinyScenario()) });
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const list = async () => (await app.call('GET', `${account}/warnings`)).body;
  assert.deepEqual([(await list()).warnings.length, (await list()).unread], [3, 3], 'found by the index alone');
  // The scenario ends on a day of its own: the server was asked then.
  await app.database.query('update reading set at = $1::timestamptz', [`${DAY}T12:00:00Z`]);
  const { warnings, unread } = (await app.call('POST', `${account}/warnings`, {})).body;
  assert.equal(unread, 0);
  const told = warnings.map(({ from, judged }: any) => [from.address, judged.verdict, judged.signs, judged.foreign]);
  assert.deepEqual(told, [
    ['postmaster@saltmarshlane.example', 'genuine', ['own-domain', 'proven', 'figure-agrees'], []],
    [
      'support@mailbox-upgrade.example',
      'not-genuine',
      ['other-domain', 'disproven', 'figure-differs', 'foreign-links', 'in-junk'],
      ['keep.mailbox-upgrade.example'],
    ],
    [
      'no-reply@quota-team.example',
      'not-genuine',
      ['other-domain', 'disproven', 'figure-differs', 'foreign-links', 'in-junk'],
      ['quota-team.example'],
    ],
  ]);
  assert.deepEqual((await list()).warnings, warnings, 'and stays told');
  // What goes is told no more.
  const { id } = (await app.call('POST', `${account}/lots`, { ids: [warnings[2].id], label: 'forged' })).body;
  await app.call('POST', `${account}/runs`, { action: 'trash', lots: [id] });
  await until(async () => (await list()).warnings.some(({ folder }: { folder: string }) => folder === 'Trash'));
});
