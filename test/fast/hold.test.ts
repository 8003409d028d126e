import assert from 'node:assert/strict';
import { chmodSync, lstatSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { cleanUp } from '../harness';
import { difficultServer, folderOf, isWhole, readByIndex } from './bagged';
import { Mailbox } from './mailbox';

after(cleanUp);

async function bagged(): Promise<{ mailbox: Mailbox; folder: string }> {
  const mailbox = await Mailbox.open(difficultServer());
  await mailbox.call('saveFiles', { place: 'here', what: 'mail', where: '' });
  await mailbox.work();
  await mailbox.work();
  return { mailbox, folder: await folderOf(mailbox, 1) };
}

const BAG = { bag: '1' };
const day = (days: number) => new Date(Date.now() + days * 86_400_000).toISOString().slice(0, 10);
const hold = (mailbox: Mailbox, until: string, reason = 'the law of allotments') =>
  mailbox.call('holdBag', { until, reason }, BAG);
const isWritable = (path: string) => (lstatSync(path).mode & 0o222) !== 0;

test('a held bag can’t be deleted, nor held for less; its files can’t be written, and the ledger knows its manifest', async () => {
  const { mailbox, folder } = await bagged();
  const until = day(400);
  const held = await hold(mailbox, until);
  assert.deepEqual([held.heldUntil, held.heldReason], [until, 'the law of allotments']);
  for (const path of ['', 'data', 'data/INBOX.mbox', 'manifest-sha256.txt'])
    assert.equal(isWritable(join(folder, path)), false, path);
  await assert.rejects(mailbox.call('deleteBag', undefined, BAG), /is held until .*the law of allotments/);
  await assert.rejects(hold(mailbox, day(30)), /can’t be made shorter/);
  assert.equal((await hold(mailbox, day(500))).heldUntil, day(500));
  await isWhole(mailbox, 1, 'held');
  assert.deepEqual((await mailbox.call('checkLedger')).faults, []);
  const { rows } = await mailbox.database.query(`select body from ledger_entry where kind = 'bag-held' order by seq`);
  assert.match(JSON.parse(rows[0].body).manifest, /^[0-9a-f]{64}$/);
});

test('who shortens a hold in the tables, or takes a bag away there, is told of by the ledger', async () => {
  const { mailbox } = await bagged();
  await hold(mailbox, day(400));
  await mailbox.database.query(`update bag set held_until = current_date`);
  assert.match((await mailbox.call('checkLedger')).faults.join(), /Bag 1 is held until .*its entry says/);
  await mailbox.database.query(`update bag set held_until = current_date + 400, state = 'erased'`);
  assert.match((await mailbox.call('checkLedger')).faults.join(), /was deleted, and no entry says so/);
});

test('after its day it can be deleted, which the ledger tells', async () => {
  const { mailbox } = await bagged();
  await hold(mailbox, day(1));
  await mailbox.database.query(`alter table bag drop constraint bag_held_check`);
  await mailbox.database.query(`update bag set held_until = current_date`);
  await mailbox.call('deleteBag', undefined, BAG);
  const { rows } = await mailbox.database.query(`select kind from ledger_entry where run = 0 order by seq`);
  assert.deepEqual(
    rows.map(({ kind }) => kind),
    ['bag-held', 'bag-erased'],
  );
  assert.deepEqual((await mailbox.call('checkLedger')).faults, []);
});

test('what is damaged in a held bag is repaired, and it is protected again', async () => {
  const { mailbox, folder } = await bagged();
  await hold(mailbox, day(400));
  const entry = (await readByIndex(folder)).find(({ subject }) => subject === 'no line end') as Record<string, any>;
  const path = join(folder, 'data', entry.path);
  const octets = readFileSync(path);
  octets[entry.offset + 60] = (octets[entry.offset + 60] as number) ^ 1;
  chmodSync(path, 0o600);
  writeFileSync(path, octets);
  await mailbox.call('readBag', undefined, BAG);
  await mailbox.work();
  assert.equal((await mailbox.call('getBag', undefined, BAG)).damaged.files, 1);
  await mailbox.call('repairBag', undefined, BAG);
  await mailbox.work();
  await isWhole(mailbox, 1, 'repaired');
  assert.equal(isWritable(path), false);
});

test('a hold wants a day to come and a reason', async () => {
  const { mailbox } = await bagged();
  await assert.rejects(hold(mailbox, day(0)), /a day to come/);
  await assert.rejects(hold(mailbox, '2026-02-31'));
  await assert.rejects(hold(mailbox, '9999-01-01'), /a day to come/);
  await assert.rejects(hold(mailbox, day(5), '  '));
  await assert.rejects(mailbox.call('holdBag', { until: day(5), reason: 'x' }, { bag: '9' }), /does not exist/);
});
