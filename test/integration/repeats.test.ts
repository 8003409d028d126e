import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { own } from '../big-folder';
import { DOVECOT_PASSWORD, DOVECOT_USER, startDovecot } from '../dovecot';
import { App, cleanUp, indexed, ROOT, until } from '../harness';

after(cleanUp);

/** Pairs that look alike and are not, and that are copies. */
const ALIKE = 4_000;
const TWINS = 400;

/** By which words the truth is told, and how Tamsel says the same. */
const SAME: Record<string, string> = {
  same_octets: 'octets',
  same_octets_without_identity: 'octets',
  same_but_for_transport: 'transport',
  same_content: 'content',
};

test('of copies that Python’s mailbox wrote each is proven in its class, and none of 4,000 pairs made to look alike', async () => {
  const dovecot = await startDovecot(2_000);
  const args = [join(ROOT, 'test/integration/make_repeats.py'), dovecot.maildir, `${ALIKE}`, `${TWINS}`];
  const truth: Record<string, string> = JSON.parse(
    execFileSync('/usr/bin/python3', args, { encoding: 'utf8', maxBuffer: 2 ** 26 }),
  );
  own(dovecot);
  const app = await App.start();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  assert.equal((await indexed(app, account)).INBOX?.messages, ALIKE + TWINS);
  const repeats = async () => (await app.call('GET', `${account}/repeats`)).body;
  const { candidates } = await repeats();
  assert.equal((await app.call('POST', `${account}/repeats/compare`, {})).status, 202);
  await until(async () => (await repeats()).proofs[0].state === 'done');
  const {
    proofs: [proof],
    twins,
    candidates: read,
  } = await repeats();
  assert.deepEqual(proof.done, candidates.unread, 'each candidate is read once, and nothing else');
  assert.equal(read.unread.messages, 0);
  const found: Record<string, string> = {};
  for (let next = ''; ; ) {
    const { body } = await app.call('GET', `${account}/repeats/twins?limit=500${next && `&after=${next}`}`);
    for (const { subject, copies, going } of body.groups) {
      assert.deepEqual([copies.length, going.messages], [2, 1], subject);
      found[subject] = copies[1].same;
    }
    next = body.next ?? '';
    if (next === '') break;
  }
  assert.deepEqual(found, Object.fromEntries(Object.entries(truth).map(([name, kind]) => [name, SAME[kind]])));
  assert.equal(twins.groups, TWINS);
  // One of each stays, whatever goes.
  const lot = (await app.call('POST', `${account}/repeats/lots`, { expect: twins.going })).body;
  const run = await app.ran(account, { action: 'trash', lots: [lot.id], expect: twins.going });
  assert.deepEqual([run.state, run.left], ['done', []]);
  const left = await indexed(app, account);
  assert.equal((left.INBOX?.messages ?? 0) + (left.Old?.messages ?? 0), 2 * ALIKE + TWINS);
});
