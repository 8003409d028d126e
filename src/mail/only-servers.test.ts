import assert from 'node:assert/strict';
import { test } from 'node:test';
import { isAdmitted, onlyServers } from './only-servers';

test('an operator names servers, all below a name, and ports', () => {
  const only = onlyServers('imap.mail-room.example:993, .ferryline.example ,10.0.0.5,[fd00::1]:143');
  const yes: [string, number][] = [
    ['imap.mail-room.example', 993],
    ['IMAP.Mail-Room.example.', 993],
    ['a.b.ferryline.example', 143],
    ['10.0.0.5', 4143],
    ['fd00::1', 143],
  ];
  const no: [string, number][] = [
    ['imap.mail-room.example', 143],
    ['mail-room.example', 993],
    ['imap.mail-room.example.elsewhere.example', 993],
    ['ferryline.example', 143],
    ['notferryline.example', 143],
    ['fd00::1', 993],
  ];
  for (const [host, port] of yes) assert.ok(isAdmitted(host, port, only), host);
  for (const [host, port] of no) assert.ok(!isAdmitted(host, port, only), host);
});

test('no list admits every server; a list that cannot be read admits none', () => {
  assert.ok(isAdmitted('anything.example', 1, onlyServers(undefined)));
  assert.equal(onlyServers(' , '), undefined);
  for (const wrong of ['imap.example:0', 'imap.example:993:1', 'https://imap.example', '*.example', 'a b'])
    assert.throws(() => onlyServers(wrong), /no server/);
});
