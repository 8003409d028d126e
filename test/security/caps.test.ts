import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import type { Folder } from '../../stand-in/mailbox/folder';
import { App, cleanUp, indexed, startStandIn, tinyScenario } from '../harness';

after(cleanUp);

test('a mailbox of more messages than the operator allows is not read, one that outgrows it keeps its index', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const most = host.mailbox.messageCount();
  const small = await App.start({ env: { TAMSEL_MAX_MESSAGES: `${most - 1}` } });
  const refused = await small.scanned(await small.signIn({ port: host.plainPort }));
  assert.deepEqual([refused.state, refused.problem.kind], ['failed', 'too-many-messages']);
  assert.match(refused.problem.detail, new RegExp(`holds ${most} messages`));
  assert.equal((await small.database.query('select 1 from placement')).rowCount, 0);

  const app = await App.start({ env: { TAMSEL_MAX_MESSAGES: `${most}` } });
  const account = await app.signIn({ port: host.plainPort });
  assert.equal((await app.scanned(account)).state, 'done');
  const before = await indexed(app, account);
  const inbox = host.mailbox.folder('INBOX') as Folder;
  host.mailbox.append(inbox, Buffer.from('Subject: one more\r\n\r\n'), 1_700_000_000, []);
  assert.equal((await app.scanned(account, true)).problem.kind, 'too-many-messages');
  assert.deepEqual(await indexed(app, account), before);
  host.mailbox.expunge(inbox, inbox.messages.slice(-1));
  assert.equal((await app.scanned(account, true)).state, 'done');
});
