import { hasFollowed, type QuotaSnapshot } from '../../core/ledger/balance';
import { isOfFiles } from '../../core/plan/fates';
import type { Ranges } from '../../core/sets/ranges';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import type { Database, Queryable } from '../../store/database';
import { tell } from '../../store/events';
import { folderById } from '../../store/index/folders';
import { saveReading } from '../../store/index/readings';
import { finishJob, type Job } from '../../store/jobs';
import { digestOfDone, unreadDestinations } from '../../store/runs/batches';
import { digestOfFilesDone } from '../../store/runs/file-runs';
import { leaveForOtherReason, membersOfRun, movedElsewhere } from '../../store/runs/frozen';
import { appendEntry } from '../../store/runs/ledger-chain';
import { foldersOfPutBacks } from '../../store/runs/put-backs';
import { foldersOfRewrites } from '../../store/runs/rewrites';
import { recordOfRun } from '../../store/runs/run-record';
import { type Run, runById, updateRun } from '../../store/runs/runs';
import type { WorkContext } from '../context';
import { fenceOf } from '../fence';
import { noticeOfRun } from '../notices';
import { checkQuotaLater, snapshotOf } from '../quota-check';
import { askSpacesAgain } from '../space/ask-again';
import { changedFolders } from '../sync/changed-folders';
import { readLevel } from '../sync/folder-listing';
import { FolderSync } from '../sync/folder-sync';
import { removeReplacements } from './remove-replacements';

/** Ends a run: what vanished is looked for elsewhere, the level is read, and the ledger gets its entry. */
export async function conclude(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  run: Run,
  state: 'done' | 'cancelled',
): Promise<void> {
  const { database, vault } = context;
  await lookForMoved(context, job, account, server, run);
  const originals = await readFoldersOfAppends(context, job, account, server, run);
  await readFolders(context, job, account, server, await unreadDestinations(database, account.id, run.id));
  if (run.action === 'purge') await askSpacesAgain(context, account);
  const after = await quotaSnapshot(database, account, server);
  await writeEnd(context, job, account, run, state, after, async (client, ended) => {
    if (originals.length > 0) await removeReplacements(client, vault, account, ended, originals);
  });
}

/**
 * Writes down that a run is over, in the ledger too, and that its job is.
 *
 * @param also what is done with the same transaction.
 */
export async function writeEnd(
  context: WorkContext,
  job: Job,
  account: Account,
  run: Run,
  state: 'done' | 'cancelled',
  after: QuotaSnapshot,
  also: (client: Queryable, ended: Run) => Promise<void> = async () => undefined,
): Promise<void> {
  const { vault } = context;
  await fenceOf(
    context,
    job,
  )(async (client) => {
    await updateRun(client, account.id, run.id, { state, after, wanted: null, problem: null });
    const { before } = (await runById(client, account.id, run.id)) as Run;
    const isMeasured = run.action === 'purge' && before?.used != null && after.used !== null;
    if (isMeasured && hasFollowed(before, after)) await updateRun(client, account.id, run.id, { settled: after });
    const ended = (await runById(client, account.id, run.id)) as Run;
    const { asked, done, left, startedAt, endedAt, settled } = ended;
    const digestOf = run.space === null ? digestOfDone : digestOfFilesDone;
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
        digest: await digestOf(client, account.id, run.id),
        record: await recordOfRun(client, account.id, run.id),
      },
    });
    if (isMeasured && !settled) await checkQuotaLater(client, account.id, 0);
    await noticeOfRun(client, account, ended);
    for (const [kind, data] of [
      ['run', ended],
      ['index', {}],
      ['level', {}],
    ] as const)
      await tell(client, account.id, kind, data);
    await also(client, ended);
    // Together with the entry, so that no second one is made by who takes the job up again.
    await finishJob(client, job);
    context.log.info({ account: account.id, run: run.id, action: run.action, state, asked, done, left }, 'a run ended');
  });
}

/**
 * Brings the index in step with folders where a run has put messages, so that these are known. Gives the members, where
 * replacements of them stand there.
 */
async function readFoldersOfAppends(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  run: Run,
): Promise<Ranges> {
  const { database } = context;
  const puts = run.action === 'put-back';
  if (!isOfFiles(run.action) && run.action !== 'restore' && !puts) return [];
  const members = puts ? [] : await membersOfRun(database, account.id, run.id);
  const folders = puts
    ? await foldersOfPutBacks(database, account.id, run.id)
    : await foldersOfRewrites(database, account.id, members);
  await readFolders(context, job, account, server, folders);
  return folders.length > 0 ? members : [];
}

/** Makes folders of the index equal to the server's. */
async function readFolders(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  folders: readonly number[],
): Promise<void> {
  const sync = new FolderSync(context, job, account, server);
  for (const id of folders) {
    const folder = await folderById(context.database, account.id, id);
    if (folder) await sync.sync(folder);
  }
}

/** Brings the index in step where members vanished, so that those that another program moved are told apart. */
async function lookForMoved(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  run: Run,
): Promise<void> {
  const { database } = context;
  const left = (await runById(database, account.id, run.id))?.left ?? [];
  if (!left.some(({ reason }) => reason === 'vanished')) return;
  const sync = new FolderSync(context, job, account, server);
  const listed = await readLevel(database, account.id, server);
  for (const { folder } of await changedFolders(database, account.id, listed, false)) await sync.sync(folder);
  await fenceOf(
    context,
    job,
  )(async (client) => {
    const moved = await movedElsewhere(client, account.id, run.id);
    await leaveForOtherReason(client, account.id, run.id, 'vanished', 'moved', moved);
  });
}

/** How full it is now: what the server says, and what we count. */
export async function quotaSnapshot(database: Database, account: Account, server: MailServer): Promise<QuotaSnapshot> {
  const quota = await server.quota();
  if (quota) await saveReading(database, account.id, quota);
  return snapshotOf(database, account, quota?.used ?? null, new Date());
}
