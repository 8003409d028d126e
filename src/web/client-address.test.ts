import assert from 'node:assert/strict';
import type { IncomingMessage } from 'node:http';
import { test } from 'node:test';
import { clientAddress, trustedProxies } from './client-address';

const asked = (peer: string, told?: string) =>
  ({
    socket: { remoteAddress: peer },
    headers: told === undefined ? {} : { 'x-forwarded-for': told },
  }) as unknown as IncomingMessage;

test('who asks is the peer, or the right-most address that no believed proxy has', () => {
  const none = trustedProxies(undefined);
  assert.equal(clientAddress(asked('::ffff:45.0.0.1', '1.2.3.4'), none), '45.0.0.1');
  const proxies = trustedProxies('127.0.0.1, 10.0.0.0/8,fd00::/8');
  assert.equal(clientAddress(asked('127.0.0.1'), proxies), '127.0.0.1');
  assert.equal(clientAddress(asked('127.0.0.1', '45.0.0.1'), proxies), '45.0.0.1');
  assert.equal(clientAddress(asked('::ffff:127.0.0.1', '9.9.9.9, 45.0.0.1, 10.1.1.1'), proxies), '45.0.0.1');
  assert.equal(clientAddress(asked('fd00::1', '10.0.0.1,fd00::2'), proxies), '10.0.0.1', 'all are believed');
  assert.equal(clientAddress(asked('45.0.0.9', '45.0.0.1'), proxies), '45.0.0.9', 'whose word is not believed');
  for (const nonsense of ['', 'unknown', ', ,', '45.0.0.1:80', 'x'.repeat(10_000)])
    assert.equal(clientAddress(asked('127.0.0.1', nonsense), proxies), '127.0.0.1', nonsense);
});

test('a proxy that is no address is an error', () => {
  for (const wrong of ['proxy.example', '10.0.0.0/99', '10.0.0.1/x'])
    assert.throws(() => trustedProxies(wrong), /no address/);
});
