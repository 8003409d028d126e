import { hasFollowed, type Mark } from '../../core/ledger/balance';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/accounts';
import { digestOfDone } from '../../store/batches';
import { appendEntry } from '../../store/chain';
import { type Database, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { leaveForOtherReason, movedElsewhere } from '../../store/frozen';
import { finishJob, holdLease, type Job } from '../../store/jobs';
import { countedBytes } from '../../store/level';
import { saveReading } from '../../store/readings';
import { recordOfRun } from '../../store/record';
import { type Run, runById, updateRun } from '../../store/runs';
import type { WorkContext } from '../context';
import { readLevel } from '../listing';
import { noticeOfRun } from '../notices';
import { changedFolders } from '../scan/changed';
import { FolderSync } from '../scan/folder';
import { lookAgainLater } from '../settling';

/** Ends a run: what vanished is looked for elsewhere, the level is read, and the ledger gets its entry. */
export async function conclude(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  run: Run,
  state: 'done' | 'cancelled',
): Promise<void> {
  const { database, worker, vault } = context;
  await lookForMoved(context, job, account, server, run);
  const after = await levelMark(database, account, server);
  await transaction(database, async (client) => {
    await holdLease(client, job, worker);
    await updateRun(client, account.id, run.id, { state, after, wanted: null, problem: null });
    const { before } = (await runById(client, account.id, run.id)) as Run;
    const isMeasured = run.action === 'purge' && before?.used != null && after.used !== null;
    if (isMeasured && hasFollowed(before, after)) await updateRun(client, account.id, run.id, { settled: after });
    const ended = (await runById(client, account.id, run.id)) as Run;
    const { asked, done, left, startedAt, endedAt, settled } = ended;
    const digest = await digestOfDone(client, account.id, run.id);
    await appendEntry(client, vault, account.id, {
      kind: 'ended',
      run: run.id,
      body: {
        action: run.action,
        label: run.label,
        state,
        asked,
        done,
        left,
        before,
        after,
        startedAt,
        endedAt,
        settled,
        digest,
        record: await recordOfRun(client, account.id, run.id),
      },
    });
    if (isMeasured && !settled) await lookAgainLater(client, account.id, 0);
    await noticeOfRun(client, account, ended);
    for (const [kind, data] of [
      ['run', ended],
      ['index', {}],
      ['level', {}],
    ] as const)
      await tell(client, account.id, kind, data);
    // Together with the entry, so that no second one is made by who takes the job up again.
    await finishJob(client, job);
    context.log.info({ account: account.id, run: run.id, action: run.action, state, asked, done, left }, 'a run ended');
  });
}

/** Brings the index in step where members vanished, so that those that another program moved are told apart. */
async function lookForMoved(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  run: Run,
): Promise<void> {
  const { database, worker } = context;
  const left = (await runById(database, account.id, run.id))?.left ?? [];
  if (!left.some(({ reason }) => reason === 'vanished')) return;
  const sync = new FolderSync(context, job, account, server);
  const listed = await readLevel(database, account.id, server);
  for (const { folder } of await changedFolders(database, account.id, listed, false)) await sync.sync(folder);
  await transaction(database, async (client) => {
    await holdLease(client, job, worker);
    const moved = await movedElsewhere(client, account.id, run.id);
    await leaveForOtherReason(client, account.id, run.id, 'vanished', 'moved', moved);
  });
}

/** How full it is now: what the server says, and what we count. */
export async function levelMark(database: Database, account: Account, server: MailServer): Promise<Mark> {
  const [quota, counted] = await Promise.all([server.quota(), countedBytes(database, account.id)]);
  if (quota) await saveReading(database, account.id, quota);
  return { used: quota?.used ?? null, counted, at: new Date().toISOString() };
}
