import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { ImapFlow } from 'imapflow';
import { App, cleanUp, hosted, indexed, PASSWORD, startStandIn, tinyScenario, USER, until } from '../harness';

after(cleanUp);

const ACCESS = { host: '127.0.0.1', security: 'none', user: USER, password: PASSWORD };

test('one mailbox by several spellings is one account; a name in other letters is the same where its inbox is', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start({ authority: host.authority });
  const account = await app.signIn({ port: host.plainPort, host: 'localhost' });
  await app.scanned(account);
  const [local, domain] = USER.split('@') as [string, string];
  for (const more of [
    { host: 'LOCALHOST.' },
    { user: ` ${local}@${domain.toUpperCase()} ` },
    { host: 'Localhost', security: 'starttls' },
  ])
    assert.equal(await app.signIn({ port: host.plainPort, host: 'localhost', ...more }), account);
  host.faults.anyCase = true;
  assert.equal(await app.signIn({ port: host.plainPort, host: 'localhost', user: USER.toUpperCase() }), account);
  await app.scanned(account);
  await app.killWorker();
  // Where the inbox is another, it is another’s: the host may tell letters apart.
  host.mailbox.changeUidValidity('INBOX');
  assert.notEqual(await app.signIn({ port: host.plainPort, host: 'localhost', user: USER.toUpperCase() }), account);
});

test('accounts are added to a session and taken out of it; each sign-in gives it another token', async () => {
  const hosts = [await startStandIn({ scenario: tinyScenario() }), await startStandIn({ scenario: tinyScenario() })];
  const app = await App.start();
  const first = await app.signIn({ port: hosts[0]?.plainPort });
  const before = app.cookie;
  const other = await app.signIn({ port: hosts[1]?.plainPort });
  assert.notEqual(app.cookie, before);
  assert.equal((await app.call('GET', '/session', undefined, { cookie: before })).status, 401);
  const ids = async () => (await app.call('GET', '/session')).body.accounts.map(({ id }: { id: number }) => id);
  assert.deepEqual(
    await ids(),
    [first, other].map((path) => Number(path.split('/').at(-1))),
  );
  assert.equal((await app.call('DELETE', `/session${first}`)).status, 204);
  assert.equal((await app.call('GET', `${first}/level`)).status, 404);
  assert.equal((await app.call('GET', `${other}/level`)).status, 200);
  const kept = 'select count(*)::int as count from credential';
  assert.equal((await app.database.query(kept)).rows[0].count, 1);
  const last = await app.call('DELETE', `/session${other}`);
  assert.match(last.headers.get('set-cookie') ?? '', /Max-Age=0/);
  assert.equal((await app.database.query(kept)).rows[0].count, 0);
});

test('guessing at one mailbox is slowed, and others are signed in to meanwhile', async () => {
  const hosts = [await startStandIn({ scenario: tinyScenario() }), await startStandIn({ scenario: tinyScenario() })];
  const app = await App.start({ worker: false });
  const guess = () => app.call('POST', '/session', { ...ACCESS, port: hosts[0]?.plainPort, password: 'guess' });
  for (let turn = 0; turn < 8; turn++) assert.equal((await guess()).status, 422);
  const slowed = await guess();
  assert.deepEqual([slowed.status, slowed.body.type], [429, '/problems/too-many-attempts']);
  assert.ok(Number(slowed.headers.get('retry-after')) > 200);
  await app.signIn({ port: hosts[1]?.plainPort });
});

test('who is signed in to a mailbox is shown there and can be signed out; behind https cookies and answers say so', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const env = { TAMSEL_SESSION_HOURS: '12', TAMSEL_SESSION_IDLE_MINUTES: '30', TAMSEL_ORIGIN: 'https://sift.example' };
  const app = await App.start({ worker: false, env });
  const at = { port: host.plainPort };
  const account = await app.signIn(at);
  const elsewhere = app.cookie;
  app.forgetCookie();
  await app.signIn(at);
  const shown = async () => (await app.call('GET', `${account}/sessions`)).body.sessions;
  const other = (await shown()).find(({ isOwn }: { isOwn: boolean }) => !isOwn);
  assert.deepEqual([(await shown()).length, other.agent], [2, 'node']);
  assert.equal((await app.call('DELETE', `${account}/sessions/${other.id}`)).status, 204);
  assert.equal((await app.call('DELETE', `${account}/sessions/${other.id}`)).status, 404);
  assert.equal((await app.call('GET', '/session', undefined, { cookie: elsewhere })).status, 401);
  const { headers } = await app.call('POST', '/session', { ...at, ...ACCESS });
  assert.match(
    headers.get('set-cookie') ?? '',
    /^__Host-tamsel-\d+=[\w-]{43}; Path=\/; HttpOnly; SameSite=Strict; Max-Age=43200; Secure$/,
  );
  assert.match(headers.get('strict-transport-security') ?? '', /max-age=\d{8}/);
  await app.database.query(`update session set seen_at = now() - interval '31 minutes'`);
  assert.equal((await app.call('GET', '/session')).status, 401);
});

test('a session that time ends takes its credentials along, unless a token for scripts needs them', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start({ worker: false });
  const account = await app.signIn({ port: host.plainPort });
  const endsAt = new Date(Date.now() + 86_400_000).toISOString();
  await app.call('POST', `${account}/tokens`, { name: 'script', acts: false, endsAt });
  const kept = async () => (await app.database.query('select 1 from credential')).rowCount;
  await app.database.query(`update session set seen_at = now() - interval '13 hours'`);
  assert.equal((await app.call('GET', '/session')).status, 401);
  app.startWorker();
  await until(async () => (await app.database.query('select 1 from session')).rowCount === 0);
  assert.equal(await kept(), 1);
  await app.killWorker();
  await app.database.query('update api_token set ends_at = now()');
  app.startWorker();
  await until(async () => (await kept()) === 0);
});

/** Names of folders in languages of the north, the east and the far east, as programs there call them. */
const NAMES = { Trash: 'Papierkorb', Sent: 'Wysłane', Drafts: '下書き', Junk: 'Roskaposti' };

test('what folders are for is proposed by their names, and nothing is moved before that is confirmed', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const client = new ImapFlow({
    host: '127.0.0.1',
    port: host.plainPort,
    secure: false,
    doSTARTTLS: false,
    auth: { user: USER, pass: PASSWORD },
    logger: false,
  });
  await client.connect();
  for (const [from, to] of Object.entries(NAMES)) await client.mailboxRename(from, to);
  await client.mailboxCreate('Starred');
  await client.logout();
  host.faults.hide = ['SPECIAL-USE', 'CREATE-SPECIAL-USE'];
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const roles = async () => {
    const { folders } = (await app.call('GET', `${account}/level`)).body;
    return Object.fromEntries(
      folders
        .filter(({ role }: { role: string }) => role && role !== 'inbox')
        .map(({ role, path, roleBy }: Record<string, string>) => [role, `${path} by ${roleBy}`]),
    );
  };
  assert.deepEqual(await roles(), {
    trash: 'Papierkorb by name',
    sent: 'Wysłane by name',
    drafts: '下書き by name',
    junk: 'Roskaposti by name',
    archive: 'Archive by name',
  });
  // A folder that is only called like a view is a folder.
  assert.deepEqual(await indexed(app, account), hosted(host));
  const run = { action: 'trash', where: 'folder = Offers and not guarded' };
  assert.equal((await app.call('POST', `${account}/runs`, run)).body.type, '/problems/roles-not-confirmed');
  assert.equal((await app.call('POST', `${account}/runs`, { action: 'purge', where: '' })).status, 409);
  const written = async () =>
    (await app.call('GET', `${account}/messages?where=category%20%3D%20own&limit=1`)).body.total;
  const own = await written();
  const wrong = await app.call('PATCH', `${account}/settings`, { roles: { trash: 'Nowhere' } });
  assert.deepEqual([wrong.status, wrong.body.errors[0].field], [422, 'roles.trash']);
  const choose = async (sent: string) => {
    await app.call('PATCH', `${account}/settings`, { roles: { trash: 'Papierkorb', sent, junk: 'Roskaposti' } });
    await app.scanned(account);
  };
  await choose('Offers');
  // What lies in Sent is the user’s own, so all messages are judged anew.
  assert.ok((await written()).messages > own.messages);
  await choose('Wysłane');
  assert.deepEqual(await roles(), {
    trash: 'Papierkorb by user',
    sent: 'Wysłane by user',
    junk: 'Roskaposti by user',
  });
  const ran = await app.ran(account, run);
  assert.deepEqual([ran.state, ran.left, ran.done], ['done', [], ran.asked]);
  assert.ok((host.mailbox.folder('Papierkorb')?.messages.length ?? 0) >= ran.done.messages);
});

test('while a further mailbox is scanned for the first time, the planner knows how much of it is there', async () => {
  const hosts = [await startStandIn({ scenario: tinyScenario() }), await startStandIn()] as const;
  const app = await App.start();
  await app.scanned(await app.signIn({ port: hosts[0].plainPort }));
  hosts[1].faults.latencyMs = 200;
  const account = await app.signIn({ port: hosts[1].plainPort });
  const its = `from placement where account = ${account.split('/').at(-1)}`;
  const count = async () => (await app.database.query(`select count(*)::int ${its}`)).rows[0].count;
  await until(async () => (await count()) >= 1_000);
  const { rows } = await app.database.query(`explain (format json) select * ${its}`);
  assert.equal((await app.call('GET', `${account}/scans/last`)).body.stage, 'details', 'it is under way');
  const planned = rows[0]['QUERY PLAN'][0].Plan['Plan Rows'];
  assert.ok(planned > 400, `${planned} rows planned`);
});
