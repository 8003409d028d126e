import assert from 'node:assert/strict';
import { test } from 'node:test';
import { admit, isInner, isLoopback } from './destination';

/** Of the registries of special-purpose addresses (RFC 6890), and forms that wrap an IPv4 address. */
const INNER = [
  ...['127.0.0.1', '10.0.0.1', '172.16.0.1', '172.31.255.255', '192.168.1.1', '169.254.1.1', '100.64.0.1', '0.0.0.0'],
  ...['224.0.0.1', '255.255.255.255', '192.0.2.1', '198.51.100.1', '203.0.113.1', '198.18.0.1', '192.0.0.1'],
  ...['::1', '::', 'fe80::1', 'fe80::1%eth0', 'fc00::1', 'fd12::1', 'ff02::1', '2001:db8::1'],
  ...['::ffff:127.0.0.1', '::ffff:7f00:1', '::127.0.0.1', '64:ff9b::7f00:1', '2002:7f00:1::1', '2001::1'],
  ...['not an address', '1.2.3', ''],
];
/** The neighbours of these registries, which belong to the public internet. */
const OUTER = [
  '9.255.255.255',
  '1.1.1.1',
  '172.15.255.255',
  '172.32.0.1',
  '100.128.0.1',
  '2400::1',
  '::ffff:9.255.255.255',
];

test('inner addresses are told from those of the public internet, however they are written', () => {
  for (const address of INNER) assert.equal(isInner(address), true, address);
  for (const address of OUTER) assert.equal(isInner(address), false, address);
  for (const address of ['127.0.0.1', '127.9.9.9', '::1', '::ffff:127.0.0.1'])
    assert.equal(isLoopback(address), true, address);
  for (const address of ['10.0.0.1', '9.255.255.255', '::2']) assert.equal(isLoopback(address), false, address);
});

test('a host is admitted when every one of its addresses is; one inner among outer ones is enough to refuse it', () => {
  const strict = { allowPrivate: false };
  admit('mail.example', ['9.255.255.255', '2400::1'], strict);
  for (const addresses of [
    ['10.0.0.1'],
    ['9.255.255.255', '10.0.0.1'],
    ['10.0.0.1', '9.255.255.255'],
    ['10.0.0.1', '127.0.0.1'],
  ])
    assert.throws(() => admit('mail.example', addresses, strict), { kind: 'address-not-allowed' }, `${addresses}`);
  admit('mail.example', ['10.0.0.1', '9.255.255.255'], { allowPrivate: true });
  for (const allowPrivate of [true, false])
    assert.throws(() => admit('mail.example', [], { allowPrivate }), { kind: 'no-such-host' });
});
