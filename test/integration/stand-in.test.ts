import assert from 'node:assert/strict';
import { execFile } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { promisify } from 'node:util';
import { stateOf } from '../../stand-in/control';
import { cleanUp, demoScenario, PASSWORD, startStandIn, temporaryFolder, USER } from '../harness';

const run = promisify(execFile);

after(cleanUp);

const checkMessages = async (port: number, step: number) =>
  Number(
    (
      await run('python3', [join(import.meta.dirname, 'check_messages.py'), `${port}`, USER, PASSWORD, `${step}`], {
        maxBuffer: 2 ** 24,
      })
    ).stdout,
  );

test('every tenth message of the small mailbox is to Python’s imaplib and email what the host says it is', async () => {
  const host = await startStandIn();
  // Each folder begins at another number.
  assert.ok((await checkMessages(host.plainPort, 10)) >= demoScenario().messages.length / 12);
});

test('so are 500 of the full mailbox, which is shaped as real mailboxes are', async () => {
  const full = demoScenario('full');
  const host = await startStandIn({ scenario: full });
  assert.ok((await checkMessages(host.plainPort, 200)) >= 500);
  const { messages } = full;
  const octets = messages.reduce((sum, { item }) => sum + item.size, 0);
  const mean = octets / messages.length;
  assert.ok(mean > 40_000 && mean < 100_000, `a mean of ${mean}`);
  const large = messages.filter(({ item }) => item.size > 5e6);
  assert.ok(large.length > 200 && large.length < 900);
  const share = large.reduce((sum, { item }) => sum + item.size, 0) / octets;
  assert.ok(share > 0.44 && share < 0.6, `the large hold ${share}`);
  assert.ok(Math.abs(octets + full.notMail - 0.96 * full.limit) < 0.01 * full.limit);
});

test('curl reads it over TLS and over STARTTLS, and trusts it by its authority alone', async () => {
  const host = await startStandIn();
  const authority = join(temporaryFolder(), 'authority.pem');
  writeFileSync(authority, host.authority);
  const curl = (...args: string[]) => run('curl', ['-sS', '--max-time', '20', '-u', `${USER}:${PASSWORD}`, ...args]);
  const listed = await curl('--cacert', authority, `imaps://localhost:${host.tlsPort}/`);
  assert.equal(listed.stdout.trim().split('\n').length, demoScenario().folders.length);
  const message = await curl('--cacert', authority, '--ssl-reqd', `imap://localhost:${host.plainPort}/Sent;UID=1`);
  assert.match(message.stdout, /^From: "Secretary, Saltmarsh Lane Allotments"/m);
  await assert.rejects(curl(`imaps://localhost:${host.tlsPort}/`), /certificate/i);
  await assert.rejects(run('curl', ['-sS', '-u', `${USER}:wrong`, `imap://localhost:${host.plainPort}/`]));
});

test('imaplib searches, stores, copies, moves, appends and expunges; changes survive a restart; over quota COPY is refused and MOVE is not', async () => {
  const directory = temporaryFolder();
  const host = await startStandIn({ directory });
  const script = `
import imaplib, sys
s = imaplib.IMAP4('127.0.0.1', ${host.plainPort}); s.login('${USER}', '${PASSWORD}')
s.create('"New M&AOQ-rkte"'); s.select('INBOX')
sizes = dict((int(l.split()[0]), int(l.split()[-1].rstrip(b')'))) for l in s.fetch('1:*', '(RFC822.SIZE)')[1])
larger = s.search(None, 'LARGER', '1000000')[1][0].split()
assert sorted(map(int, larger)) == sorted(n for n, size in sizes.items() if size > 1000000)
assert s.search(None, 'NOT', 'OR', 'SEEN', 'UNSEEN')[1][0] == b''
both = set(s.search(None, 'FROM', '"fenwater"', 'SINCE', '1-Jan-2022')[1][0].split())
assert both == set(s.search(None, 'FROM', '"FENWATER"')[1][0].split()) & set(s.search(None, 'SINCE', '1-Jan-2022')[1][0].split()) and both
assert s.search('UTF-8', 'TEXT', '"rhubarb is taking"')[1][0]
assert s.store('1:3', '+FLAGS', '(\\\\Flagged keep)')[0] == 'OK'
assert s.search(None, 'KEYWORD', 'keep')[1][0] == b'1 2 3'
assert s.copy('1:2', '"New M&AOQ-rkte"')[0] == 'OK'
assert s.uid('MOVE', '1', 'Trash')[0] == 'OK'
assert s.append('INBOX', '(\\\\Seen)', '"17-Jul-1996 02:44:25 -0700"', b'Subject: brought\\r\\n\\r\\nhello\\r\\n')[0] == 'OK'
s.store('2', '+FLAGS', '\\\\Deleted'); assert s.uid('EXPUNGE', '4')[0] == 'OK'
assert s.search(None, 'DELETED')[1][0] == b'2'
assert s.expunge()[1][-1] == b'2'
room = s.getquota('mailbox')[1][0]; used, limit = map(int, room.split(b'(STORAGE ')[1].split(b')')[0].split()[:2])
s.select('Photographs')
answers = [s.copy('1:*', 'Archive') for _ in range(3)]
assert any(kind == 'NO' and b'OVERQUOTA' in text[0] for kind, text in answers), answers
assert s.uid('MOVE', '1:*', 'Archive')[0] == 'OK'
s.logout()`;
  await run('python3', ['-c', script]);
  const left = stateOf(host);
  await host.stop();
  const again = await startStandIn({ directory });
  assert.deepEqual(stateOf(again), left);
});
