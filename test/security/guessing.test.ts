import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { App, cleanUp, PASSWORD, startStandIn, tinyScenario, USER } from '../harness';

after(cleanUp);

test('of a hundred wrong passwords at a time the host hears eight, by whatever name it is called', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start({ env: { TAMSEL_TRUSTED_PROXY: '127.0.0.1' } });
  const attempt = async (from: string, password: string, more: object = {}) => {
    const response = await fetch(`${app.origin}/api/session`, {
      method: 'POST',
      headers: { 'content-type': 'application/json', 'x-forwarded-for': from },
      body: JSON.stringify({
        host: '127.0.0.1',
        port: host.plainPort,
        security: 'none',
        user: USER,
        password,
        ...more,
      }),
    });
    await response.arrayBuffer();
    return response.status;
  };
  const all = (count: number, act: (index: number) => Promise<number>) =>
    Promise.all(Array.from({ length: count }, (_, index) => act(index)));
  const told = (statuses: number[], status: number) => statuses.filter((one) => one === status).length;

  const asOperator = { signInAs: 'operator', reason: 'Guessing.' };
  const names = ['127.0.0.1', 'localhost'];
  const tries = await all(100, (index) => attempt('45.0.0.1', `wrong ${index}`, { host: names[index % 2] }));
  assert.deepEqual([told(tries, 422), told(tries, 429)], [8, 92]);

  // Another name to sign in as is another to guess at, and no way around.
  const asOther = await all(30, (index) => attempt('45.0.0.2', `wrong ${index}`, { ...asOperator }));
  assert.deepEqual([told(asOther, 422), told(asOther, 429)], [8, 22]);
  const others = await all(10, (index) => attempt('45.0.0.2', 'wrong', { user: `u${index}`, ...asOperator }));
  assert.equal(told(others, 429), 10, 'whoever the mailbox is of');

  // One network is as many addresses as its subscriber likes.
  const net = await all(40, (index) => attempt(`2a00:1:2:3::${index}`, 'wrong', { user: `x${index}` }));
  assert.deepEqual([told(net, 422), told(net, 429)], [30, 10]);

  assert.equal(await attempt('45.0.0.3', PASSWORD), 201, 'its owner, elsewhere, is not locked out');
  assert.equal(await attempt('45.0.0.1', PASSWORD), 429, 'who failed waits');
});

test('a header of a proxy’s is believed only of the proxy that was named', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start();
  const statuses: number[] = [];
  for (let index = 0; index < 10; index++) {
    const response = await fetch(`${app.origin}/api/session`, {
      method: 'POST',
      headers: { 'content-type': 'application/json', 'x-forwarded-for': `45.0.1.${index}` },
      body: JSON.stringify({
        host: '127.0.0.1',
        port: host.plainPort,
        security: 'none',
        user: USER,
        password: 'wrong',
      }),
    });
    statuses.push(response.status);
  }
  assert.deepEqual(statuses.slice(7), [422, 429, 429]);
});
