import { setTimeout as sleep } from 'node:timers/promises';
import { isPassing, MailProblem } from '../mail/problem';
import type { MailServer } from '../mail/server';
import { type Account, accountById } from '../store/accounts';
import { canSignIn } from '../store/credentials';
import { type Database, isDatabaseTrouble, transaction } from '../store/database';
import { forgetOldEvents, listen, tell } from '../store/events';
import { finishJob, giveWay, type Job, keepLease, LeaseLost, postponeJob, takeJob } from '../store/jobs';
import { runById, updateRun } from '../store/runs';
import { scanById, updateScan } from '../store/scans';
import { beat } from '../store/workers';
import type { WorkContext } from './context';
import { endWhatIsOver, withdrawTokens } from './housekeeping';
import { leased } from './leased';
import { sendNotice } from './notices';
import { carryOut } from './run/run';
import { scan } from './scan/scan';
import { indexAllWords } from './scan/words';
import { failSearch, search } from './search';
import { look, settleFigures } from './settling';
import { SignInNeeded, signInTo } from './sign-in';

/** Looked for work so often even when nobody wakes the worker: an expired lease wakes nobody. */
const POLL_MS = 1_000;
const BEAT_MS = 3_000;
const HOUSEKEEPING_MS = 60_000;
const MOST_ATTEMPTS = 8;
/** Before the first of several tries; each further one waits twice as long. What makes progress begins anew. */
const FIRST_WAIT_SECONDS = 0.25;
const LONGEST_WAIT_SECONDS = 30;

/** Takes jobs and does them until it is stopped. */
export class Worker {
  private stopped = false;
  private wakeUp: (() => void) | undefined;
  private keptHouseAt = 0;

  constructor(private readonly context: WorkContext) {}

  async run(): Promise<void> {
    const { database } = this.context;
    const stopListening = listen(database, 'work', () => this.wakeUp?.());
    // The database may be away at any time, the first moment included.
    const beatNow = () => void beat(database, this.context.worker).catch(() => undefined);
    beatNow();
    const heart = setInterval(beatNow, BEAT_MS);
    while (!this.stopped) {
      try {
        await this.keepHouse();
        const asked = Date.now();
        const job = await takeJob(database, this.context.worker, this.context.leaseSeconds);
        if (job) await this.attend(job, asked);
        else await this.rest();
      } catch (error) {
        this.context.log.error({ err: error }, 'the database could not be used');
        await sleep(POLL_MS);
      }
    }
    clearInterval(heart);
    await stopListening();
  }

  stop(): void {
    this.stopped = true;
    this.wakeUp?.();
  }

  private async keepHouse(): Promise<void> {
    if (Date.now() - this.keptHouseAt < HOUSEKEEPING_MS) return;
    this.keptHouseAt = Date.now();
    await forgetOldEvents(this.context.database);
    await endWhatIsOver(this.context);
  }

  private async rest(): Promise<void> {
    while ((await sendNotice(this.context)) || (await withdrawTokens(this.context))) {
      // The next one.
    }
    await new Promise<void>((resolve) => {
      const timer = setTimeout(resolve, POLL_MS);
      this.wakeUp = () => {
        clearTimeout(timer);
        resolve();
      };
    });
    this.wakeUp = undefined;
  }

  /** Does a job while its lease, which was asked for at `takenAt`, is kept. */
  private async attend(job: Job, takenAt: number): Promise<void> {
    const { database, worker, leaseSeconds, log } = this.context;
    let server: MailServer | undefined;
    let keptAt = takenAt;
    const holds = () => Date.now() - keptAt < leaseSeconds * 1000;
    const keeper = setInterval(
      () => {
        const asked = Date.now();
        void keepLease(database, job, worker, leaseSeconds).then(
          (kept) => {
            if (kept) keptAt = asked;
            else void server?.close();
          },
          () => undefined,
        );
      },
      (leaseSeconds * 1000) / 3,
    );
    try {
      const account = await accountById(database, job.account);
      if (!account) return;
      if (job.kind === 'look') {
        await look(database, job);
        return;
      }
      if (await isScanned(database, job)) {
        await this.endScan(job, account);
        return;
      }
      const signedIn = async () => leased(await signInTo(this.context, account), holds);
      server = await signedIn();
      if (job.kind === 'scan') {
        await scan(this.context, job, account, server, signedIn);
        await this.endScan(job, account);
      } else if (job.kind === 'search') {
        if (await search(this.context, job, server)) await finishJob(database, job);
        else await giveWay(database, job, worker);
      } else {
        const outcome = await carryOut(this.context, job, account, server, signedIn);
        if (outcome === 'paused') await this.pause(job);
      }
    } catch (error) {
      if (error instanceof LeaseLost) log.warn({ job }, 'the lease went to another worker');
      // What the database did not take is taken up again by whoever gets the lease.
      else if (isDatabaseTrouble(error)) throw error;
      else await this.failed(job, error);
    } finally {
      clearInterval(keeper);
      await server?.close();
    }
  }

  /** What nobody waits for once a scan is done, and no server is needed for. */
  private async endScan(job: Job, account: Account): Promise<void> {
    await indexAllWords(this.context, job);
    // Before the job is over: what has to be looked at again is put off in here.
    await settleFigures(this.context.database, this.context.vault, account);
    await finishJob(this.context.database, job);
  }

  private async pause(job: Job): Promise<void> {
    await transaction(this.context.database, async (client) => {
      await updateRun(client, job.account, job.subject, { state: 'paused', wanted: null });
      await finishJob(client, job);
      await tell(client, job.account, 'run', await runById(client, job.account, job.subject));
    });
  }

  /** Trouble that passes is tried again, later and later; other trouble ends the work, and says why. */
  private async failed(job: Job, error: unknown): Promise<void> {
    const { database, vault, worker, log } = this.context;
    const problem = problemOf(error);
    log.warn({ err: error, job }, 'a job failed');
    if (job.kind === 'search') return failSearch(this.context, job, problem);
    if (job.kind === 'look') return finishJob(database, job);
    await transaction(database, async (client) => {
      const work =
        job.kind === 'scan'
          ? await scanById(client, job.account, job.subject)
          : await runById(client, job.account, job.subject);
      const attempts = (work?.attempts ?? 0) + 1;
      // Somebody may have signed in while what was kept before was refused.
      const passes =
        isPassing(error) || (error instanceof SignInNeeded && (await canSignIn(client, vault, job.account)));
      const again = passes && attempts < MOST_ATTEMPTS;
      const change = again ? { problem, attempts } : { state: 'failed' as const, problem, attempts: 0 };
      if (job.kind === 'scan')
        await tell(client, job.account, 'scan', await updateScan(client, job.account, job.subject, change));
      else {
        await updateRun(client, job.account, job.subject, change);
        await tell(client, job.account, 'run', await runById(client, job.account, job.subject));
      }
      if (again)
        await postponeJob(
          client,
          job,
          worker,
          Math.min(LONGEST_WAIT_SECONDS, FIRST_WAIT_SECONDS * 2 ** (attempts - 1)),
        );
      else await finishJob(client, job);
    });
  }
}

/** Whether a job is a scan that was done when its worker died: of it only the end is left. */
async function isScanned(database: Database, job: Job): Promise<boolean> {
  return job.kind === 'scan' && (await scanById(database, job.account, job.subject))?.state === 'done';
}

function problemOf(error: unknown): { kind: string; detail: string } {
  if (error instanceof MailProblem) return { kind: error.kind, detail: error.message };
  if (error instanceof SignInNeeded)
    return {
      kind: 'sign-in-needed',
      detail: 'The mail server does not let Tamsel in any more. Sign in again, then go on.',
    };
  return { kind: 'internal', detail: 'Something went wrong inside Tamsel. Nothing was lost; try again.' };
}
