import assert from 'node:assert/strict';
import { once } from 'node:events';
import { type AddressInfo, createServer } from 'node:net';
import { test } from 'node:test';
import { reachable } from './reachable';

test('of several addresses one that takes connections is chosen, whatever their order (RFC 8305)', async () => {
  const server = createServer((socket) => socket.destroy()).listen(0, '127.0.0.1');
  await once(server, 'listening');
  const { port } = server.address() as AddressInfo;
  // Nothing listens at the other addresses of this machine.
  const [open, ...closed] = ['127.0.0.1', '127.0.0.2', '::1', '127.0.0.3'] as const;
  for (const addresses of [
    [open, ...closed],
    [...closed, open],
    [closed[0], open, closed[1]],
    [closed[1], open],
  ])
    assert.equal(await reachable(addresses, port), open, addresses.join());
  assert.equal(await reachable(closed, port), closed[0], 'none: the first, so that its refusal is told');
  assert.equal(await reachable([closed[0]], port), closed[0]);
  // What took connections is not asked again at once.
  server.close();
  await once(server, 'close');
  assert.equal(await reachable([...closed, open], port), open);
});
