import assert from 'node:assert/strict';
import { randomUUID } from 'node:crypto';
import { after, test } from 'node:test';
import { JobRunner } from '../../src/jobs/job-runner';
import { takeJob } from '../../src/store/jobs';
import { runById } from '../../src/store/runs/runs';
import { cleanUp } from '../harness';
import { FakeServer } from './fake-server';
import { given, letter } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

const [FIRST, SECOND] = [randomUUID(), randomUUID()];

test('what a worker fails of after it lost the lease changes nothing of a run that another does, or has done', async () => {
  for (const other of ['does it', 'has done it', 'is nobody'] as const) {
    const fake = new FakeServer();
    fake.add('INBOX', 'inbox', [given(letter('plain', []))]);
    fake.add('Trash', 'trash', []);
    const mailbox = await Mailbox.open(fake);
    const { database, account } = mailbox;
    const { id } = await mailbox.call('startRun', { action: 'trash', where: '' });
    const job = await takeJob(database, FIRST, 600, { large: true, perHost: 8, suspect: true });
    assert.ok(job);
    if (other === 'does it') await database.query(`update job set worker = $1 where done_at is null`, [SECOND]);
    if (other === 'has done it') await mailbox.work();
    const before = await runById(database, account.id, id);
    // Nothing is known to sign in with, so it fails.
    const context = { ...mailbox.context, worker: FIRST };
    await new JobRunner(context, job, Date.now(), () => true).run();
    const now = await runById(database, account.id, id);
    if (other === 'is nobody') assert.deepEqual([now?.state, now?.problem?.kind], ['failed', 'sign-in-needed']);
    else assert.deepEqual(now, before, other);
    const [row] = (await database.query('select done_at is null as open from job order by id desc limit 1')).rows;
    assert.equal(row.open, other === 'does it', other);
  }
});
