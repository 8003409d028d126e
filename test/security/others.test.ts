import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { App, cleanUp, startStandIn, tinyScenario, USER } from '../harness';

after(cleanUp);

const operator = { user: 'operator', password: 'greenhouse' };
const asOperator = { password: operator.password, signInAs: operator.user };

test('who opens a mailbox for its owner says why, and its owner reads it, whoever signed in first', async () => {
  const host = await startStandIn({ scenario: tinyScenario(), operators: [operator] });
  const app = await App.start();
  const at = { host: '127.0.0.1', port: host.plainPort, security: 'none', user: USER };
  for (const reason of [undefined, '', ' a ', 'x'.repeat(501)]) {
    const refused = await app.call('POST', '/session', {
      ...at,
      ...asOperator,
      ...(reason === undefined ? {} : { reason }),
    });
    assert.equal(refused.status, 422, JSON.stringify(reason?.length));
    assert.equal(refused.body.errors[0].field, 'reason');
  }
  const reason = 'Nothing comes in any more, says the owner.';
  const others = await app.signIn({ port: host.plainPort, ...asOperator, reason });
  await app.scanned(others);
  const told = (await app.call('GET', `${others}/ledger/others`)).body;
  assert.deepEqual([told.total, told.acts[0].what, told.acts[0].reason], [1, 'opened', reason]);
  const { id } = (await app.call('POST', `${others}/lots`, { where: 'subject ~ "e"', label: 'some' })).body;
  const run = await app.finished(
    `${others}/runs/${(await app.call('POST', `${others}/runs`, { action: 'trash', lots: [id] })).body.id}`,
  );
  assert.equal(run.state, 'done');
  assert.equal((await app.call('GET', `${others}/ledger/check`)).body.faults.length, 0);

  app.forgetCookie();
  const own = await app.signIn({ port: host.plainPort });
  assert.notEqual(own, others);
  const seen = (await app.call('GET', `${own}/ledger/others`)).body;
  assert.deepEqual(
    seen.acts.map(({ what, by, sound }: Record<string, unknown>) => [what, by, sound]),
    [
      ['ended', 'operator', true],
      ['asked', 'operator', true],
      ['opened', 'operator', true],
    ],
  );
  assert.equal(seen.acts[0].done.messages, run.done.messages);
  assert.equal((await app.call('GET', `${own}/runs`)).body.runs.length, 0, 'they are not the owner’s own runs');
  assert.equal((await app.call('GET', `${own}/ledger/check`)).body.faults.length, 0);

  // Who has the database alone can't make the reason another.
  await app.database.query(
    `update ledger_entry set body = replace(body, 'Nothing', 'Something') where kind = 'opened'`,
  );
  assert.equal((await app.call('GET', `${own}/ledger/others`)).body.acts.at(-1).sound, false);
  assert.notEqual((await app.call('GET', `${own}/ledger/check`)).body.faults.length, 0);
});

test('that a mailbox was opened stays told when the operator erases their account of it', async () => {
  const host = await startStandIn({ scenario: tinyScenario(), operators: [operator] });
  const app = await App.start();
  const own = await app.signIn({ port: host.plainPort });
  const owner = app.cookie;
  app.forgetCookie();
  const others = await app.signIn({ port: host.plainPort, ...asOperator });
  assert.equal((await app.call('GET', `${own}/ledger/others`)).status, 404, 'the owner’s ledger is the owner’s');
  assert.equal((await app.call('DELETE', others)).status, 204);
  const seen = await app.call('GET', `${own}/ledger/others`, undefined, { cookie: owner });
  assert.equal(seen.body.total, 1);
});
