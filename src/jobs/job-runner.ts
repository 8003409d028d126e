import { DiskFull } from '../archive/bag';
import type { Watch } from '../dav/client';
import { isPassingProblem, SpaceProblem } from '../dav/problem';
import { isPassing, MailProblem } from '../mail/problem';
import type { MailServer } from '../mail/server';
import { type Account, accountById } from '../store/access/accounts';
import { canSignIn } from '../store/access/credentials';
import { bagById, updateBag } from '../store/archive/bags';
import { type Database, isDatabaseTrouble, type Queryable, transaction } from '../store/database';
import { tell } from '../store/events';
import { noteCounted } from '../store/index/readings';
import { scanById, updateScan } from '../store/index/scans';
import {
  finishJob,
  giveWay,
  isSuspect,
  type Job,
  keepLease,
  LeaseLost,
  noteProgress,
  postponeJob,
} from '../store/jobs';
import { proofOf, updateProof } from '../store/plan/proof';
import { runById, updateRun } from '../store/runs/runs';
import { spaceById, updateSpace } from '../store/space/spaces';
import { updateUpload, uploadById } from '../store/space/uploads';
import { readBag } from './archive/read-bag';
import { failRepair, repair } from './archive/repair';
import { bringIn } from './bring-in/bring-in';
import { TooLarge, type Turn, type WorkContext } from './context';
import { fenceOf } from './fence';
import { failOpening, openForRounds } from './host/rounds/open';
import { leased } from './leased-server';
import { confirmQuota, runQuotaCheck } from './quota-check';
import { prove, readingOfJob } from './repeats/prove';
import { carryOutFiles } from './run/files/carry-out';
import { carryOut } from './run/run';
import { DISK_FULL, save } from './save/save';
import { indexAllWords } from './scan/index-words';
import { scan } from './scan/scan';
import { failSearch, search } from './search';
import { SignInNeeded, signInTo } from './sign-in';
import { listSpacesAgain } from './space/ask-again';
import { listSpace } from './space/list-space';
import { askToStop, failAsks } from './unsubscribe/ask';
import { readWays } from './unsubscribe/read-ways';
import { upload } from './upload/upload';

const MAX_ATTEMPTS = 8;
/** Before the first of several tries; each further one waits twice as long. What makes progress begins anew. */
const FIRST_WAIT_SECONDS = 0.25;
const MAX_WAIT_SECONDS = 30;

/** Times in a row that a job may be taken without getting on: a worker that it was done by ended each time. */
const MAX_TAKES = 3;

/** The work ended the process that did it, again and again. */
class WorkerDied extends Error {}

/** One job while a worker does it, under a lease that is kept. */
export class JobRunner {
  /** When the server last answered, milliseconds since 1970. */
  answeredAt = Date.now();
  large: boolean;
  /** Whether it may be what ended the workers before, and has not got on since it was taken. */
  isSuspect: boolean;
  private server: MailServer | undefined;
  private keptAt: number;

  /**
   * @param takenAt when the lease was asked for.
   * @param claimLarge asks whether one more large job may be done.
   */
  constructor(
    private readonly context: WorkContext,
    readonly job: Job,
    takenAt: number,
    private readonly claimLarge: () => boolean,
  ) {
    this.keptAt = takenAt;
    this.large = job.large;
    this.isSuspect = isSuspect(job);
  }

  private holds(): boolean {
    return Date.now() - this.keptAt < this.context.leaseSeconds * 1000;
  }

  /** Does the job. Throws only what the database did not take; whoever gets the lease takes it up again then. */
  async run(): Promise<void> {
    const keeper = setInterval(() => this.keep(), (this.context.leaseSeconds * 1000) / 3);
    const begun = Date.now();
    this.context.log.info(named(this.job), 'a job was taken');
    try {
      const account = await accountById(this.context.database, this.job.account);
      if (account) await this.workOrFail(account);
    } catch (error) {
      if (!(error instanceof LeaseLost)) throw error;
      this.context.log.warn(named(this.job), 'the lease went to another worker');
    } finally {
      clearInterval(keeper);
      await this.server?.close();
      this.context.log.info({ ...named(this.job), ms: Date.now() - begun }, 'a job was let go');
    }
  }

  /** Does the job, and writes down what it failed of. */
  private async workOrFail(account: Account): Promise<void> {
    try {
      await this.work(account);
    } catch (error) {
      if (error instanceof LeaseLost || isDatabaseTrouble(error)) throw error;
      if (error instanceof TooLarge) await giveWay(this.context.database, this.job, this.context.worker, true);
      else await this.failed(this.job, error);
    }
  }

  private keep(): void {
    const { database, worker, leaseSeconds } = this.context;
    const asked = Date.now();
    void keepLease(database, this.job, worker, leaseSeconds).then(
      (kept) => {
        if (kept) this.keptAt = asked;
        else void this.server?.close();
      },
      () => undefined,
    );
  }

  private async work(account: Account): Promise<void> {
    const { context, job } = this;
    const { database } = context;
    if (job.takes > MAX_TAKES) throw new WorkerDied();
    if (job.kind === 'quota-check') return runQuotaCheck(database, job);
    if (job.kind === 'read-bag') return readBag(context, job, account, this.turn());
    if (job.kind === 'bring-in') return bringIn(context, job, account, this.turn());
    if (job.kind === 'ask-to-stop') return askToStop(context, job, account, this.turn());
    if (job.kind === 'list-space') return listSpace(context, job, account, this.turn(), this.watch());
    if (await isScanned(database, job)) return this.endScan(job, account);
    const signedIn = async () =>
      leased(
        await signInTo(context, account),
        () => this.holds(),
        () => {
          this.answeredAt = Date.now();
        },
      );
    const turn = this.turn();
    const run = job.kind === 'run' ? await runById(database, account.id, job.subject) : undefined;
    if (run && run.space !== null) {
      const outcome = await carryOutFiles(context, job, account, run, signedIn, turn, this.watch());
      return outcome === 'paused' ? this.pause(job) : undefined;
    }
    this.server = await signedIn();
    if (job.kind === 'open') return openForRounds(context, job, account, this.server);
    if (job.kind === 'scan') {
      await scan(context, job, account, this.server, signedIn, turn);
      await this.endScan(job, account);
    } else if (job.kind === 'search') {
      if (await search(context, job, this.server, turn)) await finishJob(database, job);
      else await giveWay(database, job, context.worker);
    } else if (job.kind === 'prove') {
      if (!(await prove(context, job, account, this.server, signedIn, turn)))
        await giveWay(database, job, context.worker);
    } else if (job.kind === 'read-ways') {
      await readWays(context, job, account, this.server, turn);
    } else if (job.kind === 'repair') {
      await repair(context, job, account, this.server, turn);
    } else if (job.kind === 'save') {
      await save(context, job, account, this.server, signedIn, turn);
    } else if (job.kind === 'upload') {
      await upload(context, job, account, this.server, signedIn, turn, this.watch());
    } else {
      const outcome = await carryOut(context, job, account, this.server, signedIn, turn);
      if (outcome === 'paused') await this.pause(job);
    }
  }

  private watch(): Watch {
    return {
      asking: () => {
        if (!this.holds()) throw new LeaseLost();
      },
      answered: () => {
        this.answeredAt = Date.now();
      },
    };
  }

  private turn(): Turn {
    return {
      claimLarge: () => {
        this.large ||= this.claimLarge();
        return this.large;
      },
      progressed: (client) => {
        this.isSuspect = false;
        return noteProgress(client, this.job);
      },
    };
  }

  /** What nobody waits for once a scan is done, and no server is needed for. */
  private async endScan(job: Job, account: Account): Promise<void> {
    await noteCounted(this.context.database, account.id);
    await indexAllWords(this.context, job);
    // Before the job is over: what has to be looked at again is put off in here.
    await confirmQuota(this.context.database, this.context.vault, account);
    await transaction(this.context.database, async (client) => {
      await listSpacesAgain(client, account.id);
      await finishJob(client, job);
    });
  }

  private async pause(job: Job, problem?: { kind: string; detail: string }): Promise<void> {
    await fenceOf(
      this.context,
      job,
    )(async (client) => {
      const change = { state: 'paused' as const, wanted: null, ...(problem ? { problem } : {}) };
      await updateRun(client, job.account, job.subject, change);
      await finishJob(client, job);
      await tell(client, job.account, 'run', await runById(client, job.account, job.subject));
    });
  }

  /**
   * Trouble that passes is tried again, later and later; other trouble ends the work, and says why. What a worker failed of that
   * lost the lease, and its connection with it, concerns nobody: another has taken the job over, or has done it.
   */
  private async failed(job: Job, error: unknown): Promise<void> {
    const { database, vault, worker, log } = this.context;
    const fenced = fenceOf(this.context, job);
    const problem = problemOf(error);
    await fenced(async () => undefined);
    log.warn({ ...named(job), problem: problem.kind, err: error }, 'a job failed');
    if (job.kind === 'search') return failSearch(this.context, job, problem);
    // These are begun again by themselves, or by whoever wants them.
    if (['quota-check', 'read-bag', 'read-ways'].includes(job.kind)) return finishJob(database, job);
    if (job.kind === 'ask-to-stop') return failAsks(this.context, job, problem);
    if (job.kind === 'repair') return failRepair(this.context, job, problem);
    if (job.kind === 'open') return failOpening(this.context, job, error, problem);
    // What the server says can't be believed, or there is no room here: a person decides whether to go on.
    if (job.kind === 'run' && (problem.kind === 'unreadable-answer' || problem.kind === 'disk-full'))
      return this.pause(job, problem);
    await fenced(async (client) => {
      const { attempts: before, update } = await workOf(client, job);
      const attempts = before + 1;
      // Somebody may have signed in while what was kept before was refused.
      const passes =
        isPassing(error) ||
        isPassingProblem(error) ||
        (error instanceof SignInNeeded && (await canSignIn(client, vault, job.account)));
      const again = passes && attempts < MAX_ATTEMPTS;
      await update(again ? { problem, attempts } : { state: 'failed', problem, attempts: 0 });
      if (again)
        await postponeJob(client, job, worker, Math.min(MAX_WAIT_SECONDS, FIRST_WAIT_SECONDS * 2 ** (attempts - 1)));
      else await finishJob(client, job);
    });
  }
}

/** How often the work of a job was tried in a row, and how what becomes of it is written down and told. */
async function workOf(
  db: Queryable,
  { kind, account, subject }: Job,
): Promise<{
  attempts: number;
  update(change: { state?: 'failed'; problem: { kind: string; detail: string }; attempts: number }): Promise<void>;
}> {
  if (kind === 'scan')
    return {
      attempts: (await scanById(db, account, subject))?.attempts ?? 0,
      update: async (change) => tell(db, account, 'scan', await updateScan(db, account, subject, change)),
    };
  if (kind === 'prove')
    return {
      attempts: (await proofOf(db, account, readingOfJob({ subject })))?.attempts ?? 0,
      update: async (change) =>
        tell(db, account, 'repeats', await updateProof(db, account, readingOfJob({ subject }), change)),
    };
  if (kind === 'save' || kind === 'bring-in')
    return {
      attempts: (await bagById(db, account, subject))?.attempts ?? 0,
      async update(change) {
        await updateBag(db, account, subject, change);
        await tell(db, account, 'bag', await bagById(db, account, subject));
      },
    };
  if (kind === 'upload')
    return {
      attempts: (await uploadById(db, account, subject))?.attempts ?? 0,
      async update(change) {
        await updateUpload(db, account, subject, change);
        await tell(db, account, 'upload', { id: subject, state: change.state });
      },
    };
  if (kind === 'list-space')
    return {
      attempts: (await spaceById(db, account, subject))?.attempts ?? 0,
      async update({ state, ...change }) {
        const isRefused = change.problem.kind === 'password-refused';
        await updateSpace(db, account, subject, {
          ...change,
          ...(state && { listingState: state }),
          ...(isRefused && { state: 'locked' as const }),
        });
        await tell(db, account, 'space', { id: subject });
      },
    };
  return {
    attempts: (await runById(db, account, subject))?.attempts ?? 0,
    async update(change) {
      await updateRun(db, account, subject, change);
      await tell(db, account, 'run', await runById(db, account, subject));
    },
  };
}

/** A job as the log names it. */
function named({ account, kind, subject }: Job): object {
  return { account, job: kind, subject };
}

/** Whether a job is a scan that was done when its worker died: of it only the end is left. */
async function isScanned(database: Database, job: Job): Promise<boolean> {
  return job.kind === 'scan' && (await scanById(database, job.account, job.subject))?.state === 'done';
}

function problemOf(error: unknown): { kind: string; detail: string } {
  if (error instanceof MailProblem || error instanceof SpaceProblem) return { kind: error.kind, detail: error.message };
  if (error instanceof DiskFull) return DISK_FULL;
  if (error instanceof SignInNeeded)
    return {
      kind: 'sign-in-needed',
      detail: 'The mail server no longer accepts Tamsel’s sign-in. Sign in again, then resume.',
    };
  if (error instanceof WorkerDied)
    return {
      kind: 'worker-died',
      detail: `The worker stopped unexpectedly ${MAX_TAKES} times while doing this, so Tamsel does not try again by itself. What was done before stands.`,
    };
  return { kind: 'internal', detail: 'Something went wrong in Tamsel. Nothing was lost. Try again.' };
}
