import { hasFollowed, type Mark } from '../core/ledger/balance';
import type { Account } from '../store/accounts';
import { appendEntry } from '../store/chain';
import { type Database, type Queryable, transaction } from '../store/database';
import { tell } from '../store/events';
import { enqueue, finishJob, type Job } from '../store/jobs';
import { countedBytes } from '../store/level';
import { lastReading } from '../store/readings';
import { type Run, unsettledRuns, updateRun } from '../store/runs';
import { openScan } from '../store/scans';
import type { Vault } from '../store/vault';

/** Seconds after which the server's figure is read again, the first by the first look: it may lag by a day. */
const LOOKS = [60, 600, 3_600, 6 * 3_600, 24 * 3_600, 48 * 3_600];
const LONGEST_WAIT_MS = 72 * 3_600_000;

/** Has the account scanned again after a while, the server's figure with it. */
export async function lookAgainLater(db: Queryable, account: number, looks: number): Promise<void> {
  const wait = LOOKS[looks];
  if (wait === undefined) return;
  await enqueue(db, account, 'look', looks, wait);
}

/** Takes the look that was put off: a scan, after which the figures are settled. */
export async function look(database: Database, job: Job): Promise<void> {
  await transaction(database, async (client) => {
    const { scan, isNew } = await openScan(client, job.account);
    if (isNew) await enqueue(client, job.account, 'scan', scan.id);
    await finishJob(client, job);
  });
}

/** Looks after a scan which purges the server's figure has followed by now, and says so in the ledger. */
export async function settleFigures(database: Database, vault: Vault, account: Account): Promise<void> {
  const open = await unsettledRuns(database, account.id, new Date(Date.now() - LONGEST_WAIT_MS));
  if (open.length === 0) return;
  const reading = await lastReading(database, account.id);
  if (!reading || reading.used === null) return;
  const now: Mark = {
    used: reading.used,
    counted: await countedBytes(database, account.id),
    at: reading.at.toISOString(),
  };
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
    lookAgainLater(
      client,
      account.id,
      LOOKS.findIndex((wait) => wait > age),
    ),
  );
}
