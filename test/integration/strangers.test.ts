import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { ROUTES } from '../../src/api/routes';
import { App, cleanUp, startStandIn, tinyScenario } from '../harness';

after(cleanUp);

test('two people on one instance: every call with the other’s account is as if there were nothing, and changes nothing', async () => {
  const [mine, theirs] = [
    await startStandIn({ scenario: tinyScenario() }),
    await startStandIn({ scenario: tinyScenario() }),
  ];
  const app = await App.start();
  const other = await app.signIn({ port: theirs.plainPort });
  await app.scanned(other);
  await app.call('POST', `${other}/lots`, { where: 'size > 1 MB', label: 'theirs' });
  const { token: theirToken } = (
    await app.call('POST', `${other}/tokens`, {
      name: 'theirs',
      acts: true,
      endsAt: new Date(Date.now() + 86_400_000).toISOString(),
    })
  ).body;
  app.forgetCookie();
  const own = await app.signIn({ port: mine.plainPort });
  await app.scanned(own);
  const { token } = (
    await app.call('POST', `${own}/tokens`, {
      name: 'mine',
      acts: true,
      endsAt: new Date(Date.now() + 86_400_000).toISOString(),
    })
  ).body;
  const state = async () => {
    const tables = ['placement', 'lot', 'run', 'scan', 'guard', 'api_token', 'credential', 'saved_filter', 'decision'];
    const sums = tables.map((table) => `(select md5(string_agg(t::text, '|' order by t::text)) from ${table} t)`);
    return JSON.stringify((await app.database.query(`select ${sums.join(', ')}`)).rows);
  };
  const before = await state();
  let tried = 0;
  for (const { method, path } of Object.values(ROUTES)) {
    if (!path.includes('{account}')) continue;
    const asked = path
      .replace('/accounts/{account}', other)
      .replace('{key}', 'a%40b.example')
      .replace(/\{\w+\}/g, '1');
    const body = method === 'GET' || method === 'DELETE' ? undefined : {};
    for (const headers of [{}, { cookie: '', authorization: `Bearer ${token}` }]) {
      const answer = await app.call(method, asked, body, headers);
      // A script is told first what no script may do, whoever's it is.
      const isAsNothing = answer.status === 404 || (answer.status === 403 && 'authorization' in headers);
      assert.ok(isAsNothing, `${method} ${asked}: ${answer.status}`);
      tried++;
    }
    const stranger = await app.call(method, asked, body, { cookie: '' });
    assert.equal(stranger.status, 401, `${method} ${asked} by nobody`);
  }
  assert.ok(tried > 100, `${tried}`);
  assert.equal(await state(), before);
  // Numbers are each account's own: those of the other mean nothing here.
  assert.equal((await app.call('GET', `${own}/lots/1`)).status, 404);
  assert.equal((await app.call('GET', '/session')).body.accounts.length, 1);
  const seen = await app.call('GET', `${own}/level`, undefined, { cookie: '', authorization: `Bearer ${theirToken}` });
  assert.equal(seen.status, 404);
});
