import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { after, test } from 'node:test';
import { ImapFlow } from 'imapflow';
import { decodeModifiedUtf7 } from '../../src/core/mailbox/modified-utf7';
import { countOf } from '../../src/core/sets/ranges';
import { connectImap } from '../../src/mail/imap/connect';
import { HEADER_FIELDS } from '../../src/mail/mime/header';
import { fuzzDecoder } from '../decoder/fuzz';
import { DOVECOT_PASSWORD, DOVECOT_USER, fillFolder, startDovecot } from '../dovecot';
import { cleanUp, demoScenario, PASSWORD, startStandIn, tinyScenario, USER } from '../harness';
import { recordOf } from '../reference-record';

after(cleanUp);

/** Everything that the general library's own parser makes of a mailbox, beside what ours does. */
async function agreement(port: number, user: string, password: string): Promise<number> {
  const library = new ImapFlow({
    host: '127.0.0.1',
    port,
    secure: false,
    doSTARTTLS: false,
    auth: { user, pass: password },
    logger: false,
  });
  await library.connect();
  const own = await connectImap(
    { host: '127.0.0.1', port, security: 'none', user, password },
    { allowPrivate: true, caFile: undefined },
  );
  const query = {
    uid: true,
    flags: true,
    size: true,
    internalDate: true,
    envelope: true,
    bodyStructure: true,
    headers: HEADER_FIELDS,
  };
  let compared = 0;
  for (const { serverName, selectable, status } of await own.folders()) {
    if (!selectable || status?.messages === 0) continue;
    await library.mailboxOpen(decodeModifiedUtf7(serverName) ?? serverName);
    const theirs = new Map<number, ReturnType<typeof recordOf>>();
    for await (const message of library.fetch('1:*', query)) theirs.set(message.uid, recordOf(message));
    await own.open(serverName);
    const uids = await own.uids();
    for await (const records of own.metadata(uids)) {
      for (const record of records) {
        assert.deepEqual(record, theirs.get(record.uid), `${serverName} ${record.uid}`);
        compared++;
      }
    }
    for await (const outlines of own.outlines(uids)) {
      for (const { uid, size, received, flags } of outlines) {
        const other = theirs.get(uid);
        assert.deepEqual([size, received, flags], [other?.size, other?.received, other?.flags]);
      }
    }
    assert.equal(countOf(await own.uids()), theirs.size);
    assert.deepEqual(await own.uidsOneByOne(), await own.uids());
  }
  await own.close();
  await library.logout();
  return compared;
}

test('our decoder agrees with the general library on every item of every message of the test mailboxes', async () => {
  const scenario = demoScenario();
  const host = await startStandIn();
  assert.equal(await agreement(host.plainPort, USER, PASSWORD), scenario.messages.length);
  // The same shapes of answers come from fewer messages.
  const tiny = tinyScenario();
  const plain = await startStandIn({ scenario: tiny });
  plain.faults.hide = ['OBJECTID', 'COMPRESS=DEFLATE', 'CONDSTORE', 'QRESYNC', 'ESEARCH'];
  assert.equal(await agreement(plain.plainPort, USER, PASSWORD), tiny.messages.length);
  const dovecot = await startDovecot(20_000);
  const items = scenario.messages
    .map(({ item }) => item)
    .filter(({ size }, index) => size < 200_000 && index % 6 === 0);
  fillFolder(dovecot, 'INBOX', items);
  if (process.getuid?.() === 0)
    execFileSync('chown', ['-R', `${dovecot.owner.uid}:${dovecot.owner.gid}`, dovecot.maildir]);
  assert.equal(await agreement(dovecot.plainPort, DOVECOT_USER, DOVECOT_PASSWORD), items.length);
});

test('mutations of the responses of three servers’ shapes neither break nor fill the decoder', () => {
  const seed = Number(process.env.TAMSEL_FUZZ_SEED ?? Date.now() % 1e9);
  const { read } = fuzzDecoder(40_000, seed);
  assert.ok(read > 6_000, `seed ${seed}`);
});
