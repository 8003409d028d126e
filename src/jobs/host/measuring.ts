import * as clock from '../../clock/clock';
import { isPassing, MailProblem } from '../../mail/problem';
import { isDatabaseTrouble } from '../../store/database';
import { mailboxById } from '../../store/host/mailboxes';
import {
  attemptsOf,
  claimDue,
  type DueMailbox,
  keepMeasuring,
  saveFailure,
  saveMeasurement,
} from '../../store/host/measurements';
import { noteAdmitted, operatorById } from '../../store/host/operators';
import type { WorkContext } from '../context';
import { measure } from './measure';
import { countRefusal } from './refusals';
import { signInFor } from './sign-in';

/** Mailboxes that one worker measures at a time. */
const MAX_AT_A_TIME = 8;
const DAY_MS = 86_400_000;
/** Trouble that passes is tried again, later and later; then on the next day. */
const RETRY_MS = [2_000, 10_000, 60_000];

type Context = Pick<
  WorkContext,
  'database' | 'vault' | 'outbound' | 'worker' | 'leaseSeconds' | 'log' | 'measuredPerHost'
>;

/** Measures mailboxes that are due, several at a time, each under a lease: where a worker dies, another measures them. */
export class Measuring {
  private readonly under = new Set<DueMailbox>();
  private claiming = false;

  constructor(private readonly context: Context) {}

  /** Takes what is due, as far as there is room. Throws only what the database did not take. */
  async takeDue(): Promise<void> {
    if (this.claiming) return;
    this.claiming = true;
    try {
      const { database, worker, leaseSeconds, measuredPerHost } = this.context;
      const most = MAX_AT_A_TIME - this.under.size;
      if (most <= 0) return;
      const due = await claimDue(database, { worker, now: clock.now(), most, perHost: measuredPerHost, leaseSeconds });
      for (const mailbox of due) void this.measureOne(mailbox);
    } finally {
      this.claiming = false;
    }
  }

  /** Moves the leases on, while anything is measured. */
  async keepLeases(): Promise<void> {
    const { database, worker, leaseSeconds } = this.context;
    if (this.under.size > 0) await keepMeasuring(database, worker, [...this.under], leaseSeconds);
  }

  private async measureOne(due: DueMailbox): Promise<void> {
    this.under.add(due);
    try {
      await this.measured(due);
    } catch (error) {
      // Another worker takes it when the lease is over.
      if (!isDatabaseTrouble(error)) this.context.log.error({ err: error, ...due }, 'a mailbox could not be measured');
    } finally {
      this.under.delete(due);
    }
    // At once, so that a thousand mailboxes take what the connections allow.
    await this.takeDue().catch((error: unknown) =>
      this.context.log.error({ err: error }, 'the database could not be used'),
    );
  }

  private async measured(due: DueMailbox): Promise<void> {
    const { context } = this;
    const { database, worker } = context;
    const at = clock.now();
    const operator = await operatorById(database, due.operator);
    const mailbox = operator && (await mailboxById(database, due.operator, due.id, at));
    if (!operator || !mailbox) return;
    try {
      const server = await signInFor(context, operator, mailbox);
      try {
        if (!mailbox.hasPassword) await noteAdmitted(database, operator.id);
        await saveMeasurement(database, due, worker, await measure(server, at), nextDay(at, due.id));
      } finally {
        await server.close();
      }
    } catch (error) {
      if (isDatabaseTrouble(error)) throw error;
      await this.failed(due, error, !mailbox.hasPassword);
    }
  }

  private async failed(due: DueMailbox, error: unknown, asOperator: boolean): Promise<void> {
    const { database, worker, log } = this.context;
    const at = clock.now();
    const problem =
      error instanceof MailProblem
        ? { kind: error.kind, detail: error.message }
        : { kind: 'internal', detail: 'Something went wrong in Tamsel.' };
    log.warn(
      { ...due, problem: problem.kind, ...(problem.kind === 'internal' ? { err: error } : {}) },
      'a mailbox was not measured',
    );
    if (problem.kind === 'password-refused' && asOperator) await countRefusal(this.context, due.operator);
    const wait = isPassing(error) ? RETRY_MS[await attemptsOf(database, due)] : undefined;
    const again =
      wait === undefined
        ? { at: nextDay(at, due.id), counts: false }
        : { at: new Date(at.getTime() + wait), counts: true };
    await saveFailure(database, due, worker, problem, again);
  }
}

/** A day later, spread over an hour, so that not all mailboxes of a host come due at one moment. */
function nextDay(at: Date, id: number): Date {
  return new Date(at.getTime() + DAY_MS - (id % 60) * 60_000);
}
