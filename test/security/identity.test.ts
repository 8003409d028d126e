import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { App, cleanUp, startStandIn, tinyScenario, USER } from '../harness';

after(cleanUp);

test('after a lock a new credential ends every other session and token', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const first = app.cookie;
  const endsAt = new Date(Date.now() + 3_600_000).toISOString();
  const { token } = (await app.call('POST', `${account}/tokens`, { name: 'nightly', acts: true, endsAt })).body;
  const state = async (headers: Record<string, string>) =>
    (await fetch(`${app.origin}/api${account}/level`, { headers })).status;
  assert.deepEqual([await state({ cookie: first }), await state({ authorization: `Bearer ${token}` })], [200, 200]);

  // Signing in once more, with nothing changed, ends nobody's.
  app.forgetCookie();
  await app.signIn({ port: host.plainPort });
  assert.deepEqual([await state({ cookie: first }), await state({ authorization: `Bearer ${token}` })], [200, 200]);

  // Each sign-in began a scan, which must not be the one that is looked at below.
  await app.scanned(account);
  host.faults.refuseSignIn = true;
  host.dropAll();
  await app.scanned(account, true).catch(() => undefined);
  host.faults.refuseSignIn = false;
  app.forgetCookie();
  await app.signIn({ port: host.plainPort });
  const own = app.cookie;
  assert.deepEqual(
    [await state({ cookie: first }), await state({ authorization: `Bearer ${token}` }), await state({ cookie: own })],
    [401, 401, 200],
  );
});

test('who signs in is part of whose a mailbox is', async () => {
  const operator = { user: 'operator', password: 'greenhouse' };
  const host = await startStandIn({ scenario: tinyScenario(), operators: [operator] });
  const app = await App.start();
  const own = await app.signIn({ port: host.plainPort });
  app.forgetCookie();
  const others = await app.signIn({ port: host.plainPort, password: operator.password, signInAs: operator.user });
  assert.notEqual(others, own, 'an operator comes to an account of their own');
  assert.equal((await app.call('GET', `${own}/level`)).status, 404);
});

test('a name in other letters is the same mailbox only with the password that is kept', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  host.faults.anyCase = true;
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  app.forgetCookie();
  assert.equal(await app.signIn({ port: host.plainPort, user: USER.toUpperCase() }), account);
  await app.database.query('delete from credential');
  app.forgetCookie();
  assert.notEqual(await app.signIn({ port: host.plainPort, user: USER.toUpperCase() }), account, 'nobody can tell');
});

test('what is kept to sign in with goes nowhere else, whatever is written to the database', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const id = Number(account.split('/').at(-1));
  for (const [change, back] of [
    [`port = ${host.plainPort + 1}`, `port = ${host.plainPort}`],
    [`host = 'localhost'`, `host = '127.0.0.1'`],
    [`user_name = 'somebody'`, `user_name = '${USER}'`],
    [`sign_in_as = 'somebody'`, `sign_in_as = ''`],
  ]) {
    await app.database.query(`update account set ${change}, state = 'active' where id = $1`, [id]);
    const scan = await app.scanned(account, true);
    assert.deepEqual([scan.state, scan.problem?.kind], ['failed', 'sign-in-needed'], change);
    await app.database.query(`update account set ${back} where id = $1`, [id]);
  }
  await app.database.query(`update account set state = 'active' where id = $1`, [id]);
  assert.equal((await app.scanned(account, true)).state, 'done', 'in its own place it opens');
});
