import assert from 'node:assert/strict';
import { statSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { stepRetention } from '../../src/jobs/retention';
import { saveSecret } from '../../src/store/access/credentials';
import { cleanUp } from '../harness';
import { folderOf, message } from './bagged';
import { deliver, FakeServer } from './fake-server';
import { given } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

const LONG_AGO = new Date('2001-05-04T08:00:00Z');
const yearsFromNow = (years: number) => `${new Date().getUTCFullYear() + years}`;

function server(): FakeServer {
  const fake = new FakeServer();
  fake.add('INBOX', 'inbox', [
    given(message('old', 'x\r\n'), { received: LONG_AGO }),
    given(message('one', 'x\r\n'), { received: new Date() }),
  ]);
  fake.add('Minutes', null, [given(message('two', 'x\r\n'), { received: new Date() })]);
  fake.add('Trash', 'trash', [given(message('in the trash', 'x\r\n'), { received: new Date() })]);
  return fake;
}

/** A mailbox that Tamsel can sign in to by itself. */
async function opened(fake: FakeServer): Promise<Mailbox> {
  const mailbox = await Mailbox.open(fake);
  await saveSecret(mailbox.database, mailbox.context.vault, mailbox.account.id, { password: 'kept' });
  return mailbox;
}

const step = (mailbox: Mailbox) => stepRetention(mailbox.context);
const bagsOf = async (mailbox: Mailbox) => (await mailbox.call('listBags')).bags.reverse();
const isNight = (mailbox: Mailbox) => mailbox.database.query('update retention set next_at = now()');

/** One night: the scan, then what is new. */
async function night(mailbox: Mailbox): Promise<void> {
  assert.equal(await step(mailbox), true);
  assert.equal(await step(mailbox), false, 'the scan is waited for');
  await mailbox.work();
  assert.equal(await step(mailbox), true);
  assert.equal(await step(mailbox), false, 'until the next night');
}

test('every message of the last years is saved under a hold, then every night what is new, and the mailbox is as it was', async () => {
  const fake = server();
  const mailbox = await opened(fake);
  const before = mailbox.hosted;
  await mailbox.call('startRetention', { years: 10, reason: 'books of account' });
  await night(mailbox);
  const lastAt = async () => (await mailbox.call('getRetention')).retention.lastAt;
  assert.equal(await lastAt(), undefined, 'it is being saved');
  await mailbox.work();
  assert.ok(await lastAt());
  const [first] = await bagsOf(mailbox);
  assert.deepEqual(
    [first.state, first.saved.files, first.checked.files],
    ['done', 3, 3],
    'the trash too, and not what is older',
  );
  assert.deepEqual([first.heldReason, first.heldUntil.slice(0, 4)], ['books of account', yearsFromNow(10)]);
  assert.equal(statSync(join(await folderOf(mailbox, first.id), 'manifest-sha256.txt')).mode & 0o222, 0);
  await assert.rejects(mailbox.call('deleteBag', undefined, { bag: `${first.id}` }), /held until/);
  const ledger = await mailbox.call('checkLedger');
  assert.deepEqual([ledger.faults, ledger.entries], [[], 1]);
  // Its words are read.
  await mailbox.work();
  await isNight(mailbox);
  await night(mailbox);
  assert.equal((await bagsOf(mailbox)).length, 1, 'nothing is new');
  deliver(fake.folder('INBOX'), given(message('new', 'x\r\n'), { received: new Date() }));
  await isNight(mailbox);
  await night(mailbox);
  await mailbox.work();
  const [, second] = await bagsOf(mailbox);
  assert.deepEqual([second.saved.files, second.heldReason], [1, 'books of account']);
  const { retention, kept } = await mailbox.call('getRetention');
  assert.deepEqual([kept.messages, retention.years, retention.problem, fake.sent], [4, 10, undefined, []]);
  assert.deepEqual(mailbox.hosted, { ...before, INBOX: [...(before.INBOX as string[]), 'new'].sort() });
  const ended = await mailbox.call('endRetention', undefined);
  assert.deepEqual([ended.retention, ended.kept.messages], [null, 4]);
  assert.equal(await step(mailbox), false);
  await assert.rejects(mailbox.call('deleteBag', undefined, { bag: `${second.id}` }), /held until/, 'it stays held');
});

test('what the server never gives as it says is tried three nights, and the others are kept', async () => {
  const fake = server();
  const mailbox = await opened(fake);
  fake.served = (octets) => (octets.includes('Subject: two') ? octets.subarray(0, octets.length - 1) : octets);
  await mailbox.call('startRetention', { years: 1, reason: 'law' });
  for (let nights = 0; nights < 5; nights++) {
    await isNight(mailbox);
    await night(mailbox);
    for (const { kind } of (await mailbox.database.query('select kind from job where done_at is null')).rows)
      if (kind === 'save' || kind === 'read-bag') await mailbox.work();
    await mailbox.database.query(`update job set done_at = now() where done_at is null`);
  }
  const bags = await bagsOf(mailbox);
  assert.deepEqual(
    bags.map(({ saved, left, heldUntil }: any) => [saved.files, left.length, heldUntil !== null]),
    [
      [2, 1, true],
      [0, 1, false],
      [0, 1, false],
    ],
  );
});

test('without a way to sign in, and where the scan fails, it says so and tries again', async () => {
  const mailbox = await Mailbox.open(server());
  await mailbox.call('startRetention', { years: 1, reason: 'law' });
  assert.equal(await step(mailbox), true);
  assert.equal((await mailbox.call('getRetention')).retention.problem.kind, 'sign-in-needed');
  await saveSecret(mailbox.database, mailbox.context.vault, mailbox.account.id, { password: 'kept' });
  await isNight(mailbox);
  assert.equal(await step(mailbox), true);
  await mailbox.database.query(`update scan set state = 'failed' where state = 'queued'`);
  assert.equal(await step(mailbox), true);
  const { retention } = await mailbox.call('getRetention');
  assert.equal(retention.problem.kind, 'scan-failed');
  assert.ok(new Date(retention.nextAt).getTime() > Date.now() + 3_000_000);
});
