import { setTimeout as sleep } from 'node:timers/promises';
import { forgetOldEvents, listen } from '../store/events';
import { excuseWorker, takeJob } from '../store/jobs';
import { beat } from '../store/workers';
import { Alarm } from './alarm';
import type { WorkContext } from './context';
import { stepHabit } from './habit';
import { Measuring } from './host/measuring';
import { stepRounds } from './host/rounds/step';
import {
  beginDueReadings,
  beginDueScan,
  cancelOverdueUpload,
  deleteExpired,
  deleteOverdueDownload,
  revokeTokens,
} from './housekeeping';
import { JobRunner } from './job-runner';
import { PER_HOST } from './limits';
import { sendNotice } from './notices';
import { stepRetention } from './retention';
import { stepStanding } from './standing';

/** Looked for work so often even when nobody wakes the worker: an expired lease wakes nobody. */
const POLL_MS = 1_000;
const BEAT_MS = 3_000;
const HOUSEKEEPING_MS = 60_000;

/** Jobs that get on, and all of them, done at a time: one whose server does not answer costs no more than its memory. */
const MAX_ACTIVE = 12;
const MAX_JOBS = 64;
/** Of large ones, which hold most of the memory that a worker needs. */
const MAX_LARGE = 2;
/** Milliseconds without an answer after which a job does not count among those that get on. */
const STALLED_MS = 2_000;

/** Takes jobs and does several at a time until it is stopped. */
export class Worker {
  private stopped = false;
  /** Rings when there may be a job to take, and when one ended: what waits for it may go on. */
  private readonly work = new Alarm();
  private readonly chores = new Alarm();
  private readonly running = new Set<JobRunner>();
  private readonly measuring: Measuring;

  constructor(private readonly context: WorkContext) {
    this.measuring = new Measuring(context);
  }

  async run(): Promise<void> {
    const { database } = this.context;
    const stopListening = listen(database, 'work', () => this.work.ring());
    // The database may be away at any time, the first moment included.
    const beatNow = () => void beat(database, this.context.worker).catch(() => undefined);
    beatNow();
    const heart = setInterval(beatNow, BEAT_MS);
    void this.repeat(HOUSEKEEPING_MS, () => this.keepHouse());
    void this.repeat(POLL_MS, () => this.doChores(), this.chores);
    void this.repeat(POLL_MS, () => this.measuring.takeDue());
    void this.repeat((this.context.leaseSeconds * 1000) / 3, () => this.measuring.keepLeases());
    while (!this.stopped) {
      try {
        if (!(await this.takeOne())) await this.work.wait(POLL_MS);
      } catch (error) {
        this.context.log.error({ err: error }, 'the database could not be used');
        await sleep(POLL_MS);
      }
    }
    clearInterval(heart);
    await stopListening();
  }

  /** Takes no more jobs; those that are under way go on until the process ends. */
  async stop(): Promise<void> {
    this.stopped = true;
    this.work.ring();
    // It was no fault of theirs.
    await excuseWorker(this.context.database, this.context.worker).catch(() => undefined);
  }

  private async takeOne(): Promise<boolean> {
    const { database, worker, leaseSeconds } = this.context;
    if (!this.hasRoom()) return false;
    const asked = Date.now();
    const job = await takeJob(database, worker, leaseSeconds, {
      large: this.mayBeLarge(),
      perHost: PER_HOST,
      suspect: this.running.size === 0,
    });
    if (!job) return false;
    const runner = new JobRunner(this.context, job, asked, () => this.mayBeLarge());
    this.running.add(runner);
    void runner
      .run()
      .catch((error: unknown) => this.context.log.error({ err: error, job }, 'the database could not be used'))
      .finally(() => {
        this.running.delete(runner);
        this.work.ring();
        this.chores.ring();
      });
    return true;
  }

  private hasRoom(): boolean {
    // One that may have ended its workers is done alone until it gets on.
    if ([...this.running].some(({ isSuspect }) => isSuspect)) return false;
    const since = Date.now() - STALLED_MS;
    const active = [...this.running].filter(({ answeredAt }) => answeredAt >= since).length;
    return active < MAX_ACTIVE && this.running.size < MAX_JOBS;
  }

  private mayBeLarge(): boolean {
    return [...this.running].filter(({ large }) => large).length < MAX_LARGE;
  }

  private async repeat(everyMs: number, act: () => Promise<void>, alarm = new Alarm()): Promise<void> {
    while (!this.stopped) {
      await act().catch((error: unknown) => this.context.log.error({ err: error }, 'a chore could not be done'));
      await alarm.wait(everyMs, { ref: false });
    }
  }

  private async keepHouse(): Promise<void> {
    await forgetOldEvents(this.context.database);
    await deleteExpired(this.context);
    await beginDueReadings(this.context);
    while (
      (await beginDueScan(this.context)) ||
      (await deleteOverdueDownload(this.context)) ||
      (await cancelOverdueUpload(this.context)) ||
      (await stepHabit(this.context))
    ) {
      // The next one.
    }
  }

  /** What nobody waits for, and takes as long as others let it. */
  private async doChores(): Promise<void> {
    while (
      (await sendNotice(this.context)) ||
      (await revokeTokens(this.context)) ||
      (await stepRetention(this.context)) ||
      (await stepStanding(this.context)) ||
      (await stepRounds(this.context))
    ) {
      // The next one.
    }
  }
}
