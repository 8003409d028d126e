import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { decodeModifiedUtf7, encodeModifiedUtf7 } from '../core/mailbox/modified-utf7';
import { admit, checkedAddresses, isInner, isLoopback } from './destination';
import { copiedUids } from './imap/answers/copyuid';
import { MailProblem } from './problem';

test('inner addresses are told by number, whatever form they are written in (RFC 6890 and its registries)', () => {
  const inside = [
    ...['127.0.0.1', '10.1.2.3', '172.31.255.255', '192.168.0.1', '169.254.169.254', '100.64.0.1', '0.0.0.0'],
    ...['255.255.255.255', '224.0.0.1', '240.0.0.1', '198.18.0.1', '192.0.0.8'],
    ...['::1', '::', 'fe80::1', 'fe80::1%eth0', 'fd00::1', 'fec0::1', 'ff02::1', '100::1', '2001::1'],
    // Of documentation (RFC 5737, 3849).
    ...['192.0.2.10', '198.51.100.7', '203.0.113.5', '2001:db8::1', '::ffff:192.0.2.10'],
    // Mapped, compatible (RFC 4291), translated (RFC 2765), NAT64 (RFC 6052), 6to4 (RFC 3056).
    ...['::ffff:10.0.0.1', '::ffff:7f00:1', '::127.0.0.1', '::45.0.0.1', '::ffff:0:127.0.0.1', '::ffff:0:45.0.0.1'],
    ...['64:ff9b::7f00:1', '64:ff9b::45.0.0.1', '64:ff9b:1::1', '2002:7f00:1::', '2002:2d00:1::'],
    ...['', 'localhost', '127.1', '0x7f000001'],
  ];
  for (const address of inside) assert.ok(isInner(address), address);
  for (const address of ['45.0.0.1', '2a00::1', '::ffff:45.0.0.1']) assert.ok(!isInner(address), address);
  assert.ok(isLoopback('127.8.8.8') && isLoopback('::ffff:127.0.0.1') && !isLoopback('10.0.0.1'));
});

test('every address of a host must be allowed, in whatever order they come', () => {
  const refused = (error: unknown) => error instanceof MailProblem && error.kind === 'address-not-allowed';
  const [outer, inner] = ['45.0.0.1', '10.0.0.1'];
  admit('mail.example', [outer, '2a00::1'], { allowPrivate: false });
  for (const addresses of [[outer, inner], [inner, outer], [inner]]) {
    assert.throws(() => admit('mail.example', addresses, { allowPrivate: false }), refused);
    admit('mail.example', addresses, { allowPrivate: true });
  }
});

test('a name is resolved once and refused where it leads inside', async () => {
  await assert.rejects(
    checkedAddresses('localhost', { allowPrivate: false }),
    (error) => error instanceof MailProblem && error.kind === 'address-not-allowed',
  );
  assert.ok((await checkedAddresses('localhost', { allowPrivate: true })).every(isLoopback));
  await assert.rejects(
    checkedAddresses('no-such-host.invalid', { allowPrivate: true }),
    (error) => error instanceof MailProblem && error.kind === 'no-such-host',
  );
});

test('modified UTF-7: the example of RFC 3501 §5.1.3, and every name both ways', () => {
  assert.equal(encodeModifiedUtf7('~peter/mail/台北/日本語'), '~peter/mail/&U,BTFw-/&ZeVnLIqe-');
  assert.equal(encodeModifiedUtf7('Märkte & Feste'), 'M&AOQ-rkte &- Feste');
  fc.assert(
    fc.property(fc.string({ unit: 'grapheme' }), (name) => decodeModifiedUtf7(encodeModifiedUtf7(name)) === name),
  );
  for (const none of ['Bees & Honey', 'M\u00e4rkte', '&A', '&A-', '&!!-', '&AOQ'])
    assert.equal(decodeModifiedUtf7(none), undefined, none);
});

test('COPYUID pairs in the order written: the example of RFC 4315 §3', () => {
  const told = (details: string, most = 3) => copiedUids({ code: 'COPYUID', details }, most);
  assert.deepEqual(told('38505 304,319:320 3956:3958'), {
    uidValidity: 38_505,
    uids: new Map([
      [304, 3956],
      [319, 3957],
      [320, 3958],
    ]),
  });
  for (const none of ['1 1:2 7', '1 1:2 7,7', '1 1:4 5:8', '1 1:4294967295 1:4294967295', '1 1 *', '1', ''])
    assert.equal(told(none), undefined, none);
});
