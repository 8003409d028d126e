import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import type { StandIn } from '../../stand-in/host';
import { App, cleanUp, PASSWORD, startStandIn, tinyScenario, until } from '../harness';

let app: App;
let host: StandIn;
let account: string;

before(async () => {
  host = await startStandIn({ scenario: tinyScenario() });
  app = await App.start({ env: { TAMSEL_MAX_UNCONFIRMED_PURGE: '5' } });
  account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
});
after(cleanUp);

/** As if the sign-in had been a while ago, for one session or for all. */
const later = () => app.database.query(`update session_account set proved_at = now() - interval '11 minutes'`);
const said = ({ status, body }: { status: number; body: { type?: string } }) => `${status} ${body?.type ?? ''}`.trim();
const ASKED = '403 /problems/prove-again';
const token = (acts: boolean) =>
  app.call('POST', `${account}/tokens`, { name: 't', acts, endsAt: new Date(Date.now() + 86_400_000).toISOString() });
const purge = (where: string, headers = {}) => app.call('POST', `${account}/runs`, { action: 'purge', where }, headers);
const prove = (password: string) => app.call('POST', `${account}/proof`, { password });

test('what matters most wants the password again, and nothing is begun before', async () => {
  const acting = (await token(true)).body.token as string;
  await app.ran(account, { action: 'trash', where: 'folder = Offers and not guarded' });
  await later();
  const asked = await token(true);
  assert.equal(said(asked), ASKED);
  assert.deepEqual(asked.body.errors, [{ field: 'proof', expected: 'password' }]);
  assert.equal((await token(false)).status, 201, 'one that only reads wants nothing');
  assert.equal(said(await app.call('DELETE', account)), ASKED);
  const runs = async () => (await app.call('GET', `${account}/runs`)).body.runs.length;
  const before = await runs();
  assert.equal(said(await purge('')), ASKED);
  assert.equal(await runs(), before);
  const entries = (await app.call('GET', `${account}/ledger/head`)).body.entries;
  const few = (await app.call('GET', `${account}/messages?scope=trash&limit=3`)).body.messages.map(
    ({ id }: { id: number }) => id,
  );
  assert.equal(few.length, 3);
  const small = await app.ran(account, { action: 'purge', ids: few });
  assert.deepEqual([small.state, small.done.messages], ['done', 3], 'a small purge wants nothing');
  assert.equal((await app.call('GET', `${account}/ledger/head`)).body.entries, entries + 2);

  assert.equal(said(await prove(`${PASSWORD}x`)), '422 /problems/password-refused');
  assert.equal(said(await purge('')), ASKED);
  // Another browser's proof, and another mailbox's, are not this one's.
  const mine = app.cookie;
  app.forgetCookie();
  await app.signIn({ port: host.plainPort });
  app.cookie = mine;
  assert.equal(said(await purge('')), ASKED);
  // A script's token was made with a proof.
  const byScript = await purge('from = nobody@nowhere.example', { authorization: `Bearer ${acting}`, cookie: '' });
  assert.equal(said(byScript), '409 /problems/nothing-to-do');

  assert.equal((await prove(PASSWORD)).status, 204);
  const run = await app.ran(account, { action: 'purge', where: '' });
  assert.deepEqual([run.state, run.done], ['done', run.asked]);
  assert.ok(run.asked.messages > 5);
  assert.equal((await token(true)).status, 201);
});

test('files that are kept here go only with a proof, whatever became of their set, and an account does not go before them', async () => {
  await prove(PASSWORD);
  const { body } = await app.call('POST', `${account}/bags`, {
    place: 'here',
    where: 'kind = picture and size < 300 kB',
  });
  const path = `${account}/bags/${body.id}`;
  await until(async () => (await app.call('GET', path)).body.state === 'done');
  assert.equal(said(await app.call('DELETE', account)), '409 /problems/bags-kept');
  await later();
  // One that was cancelled while it was read back is whole.
  for (const state of ['done', 'cancelled']) {
    await app.database.query('update bag set state = $1', [state]);
    assert.equal(said(await app.call('DELETE', path)), ASKED, state);
  }
  assert.equal((await app.call('GET', path)).body.state, 'cancelled');
  await prove(PASSWORD);
  assert.equal((await app.call('DELETE', path)).status, 204);
  assert.equal((await app.call('GET', path)).body.state, 'erased');
});

test('the password is asked of the host, is kept nowhere, and guessing it is counted like a sign-in', async () => {
  await later();
  const kept = async () => (await app.database.query('select sealed from credential')).rows[0].sealed as Buffer;
  const before = await kept();
  const answers: number[] = [];
  for (let tries = 0; tries < 12; tries++) answers.push((await prove(`wrong ${tries}`)).status);
  assert.ok(answers.includes(429), `${answers}`);
  assert.ok(answers.filter((status) => status === 422).length <= 8, `${answers}`);
  assert.equal((await prove(PASSWORD)).status, 429, 'the right one has to wait too');
  assert.equal(said(await app.call('DELETE', account)), ASKED);
  assert.deepEqual(await kept(), before);
  await app.database.query('delete from attempt');
  assert.equal((await prove(PASSWORD)).status, 204);
  assert.equal((await app.call('DELETE', account)).status, 204);
});
