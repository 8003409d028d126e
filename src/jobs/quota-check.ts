import { hasFollowed, type QuotaSnapshot } from '../core/ledger/balance';
import type { Account } from '../store/access/accounts';
import type { Vault } from '../store/access/vault';
import { type Database, type Queryable, transaction } from '../store/database';
import { tell } from '../store/events';
import { countedBytes } from '../store/index/counted-bytes';
import { lastReading } from '../store/index/readings';
import { openScan } from '../store/index/scans';
import { enqueue, finishJob, type Job } from '../store/jobs';
import { appendEntry } from '../store/runs/ledger-chain';
import { type Run, unconfirmedPurges, updateRun } from '../store/runs/runs';
import { countedFileBytes } from '../store/space/counting';

/** Seconds after which the server's figure is read again, the first by the first check: it may lag by a day. */
const CHECK_AFTER_SECONDS = [60, 600, 3_600, 6 * 3_600, 24 * 3_600, 48 * 3_600];
const MAX_WAIT_MS = 72 * 3_600_000;

/** Has the account scanned again after a while, the server's figure with it. */
export async function checkQuotaLater(db: Queryable, account: number, looks: number): Promise<void> {
  const wait = CHECK_AFTER_SECONDS[looks];
  if (wait === undefined) return;
  await enqueue(db, account, 'quota-check', looks, wait);
}

/** Does the check that was put off: a scan, after which purges are confirmed. */
export async function runQuotaCheck(database: Database, job: Job): Promise<void> {
  await transaction(database, async (client) => {
    const { scan, isNew } = await openScan(client, job.account);
    if (isNew) await enqueue(client, job.account, 'scan', scan.id);
    await finishJob(client, job);
  });
}

/** Looks after a scan which purges the server's figure has followed by now, and says so in the ledger. */
export async function confirmQuota(database: Database, vault: Vault, account: Account): Promise<void> {
  const open = await unconfirmedPurges(database, account.id, new Date(Date.now() - MAX_WAIT_MS));
  if (open.length === 0) return;
  const reading = await lastReading(database, account.id);
  if (!reading || reading.used === null) return;
  const now = await snapshotOf(database, account, reading.used, reading.at);
  let waiting: Run | undefined;
  for (const run of open) {
    if (!hasFollowed(run.before, now)) {
      waiting = run;
      continue;
    }
    await transaction(database, async (client) => {
      await updateRun(client, account.id, run.id, { settled: now });
      await appendEntry(client, vault, account.id, { kind: 'settled', run: run.id, body: { ...now } });
      await tell(client, account.id, 'run', { id: run.id });
    });
  }
  if (!waiting?.endedAt) return;
  const age = (Date.now() - waiting.endedAt.getTime()) / 1000;
  await transaction(database, (client) =>
    checkQuotaLater(
      client,
      account.id,
      CHECK_AFTER_SECONDS.findIndex((wait) => wait > age),
    ),
  );
}

/** How full it is: what the server said, and what we count, the files that share the quota too. */
export async function snapshotOf(
  database: Database,
  account: Account,
  used: number | null,
  at: Date,
): Promise<QuotaSnapshot> {
  const [counted, files] = await Promise.all([
    countedBytes(database, account.id),
    countedFileBytes(database, account.id),
  ]);
  return { used, counted, ...(files === undefined ? {} : { files }), at: at.toISOString() };
}
