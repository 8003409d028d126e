import { now } from '../clock/clock';
import { dayOfInstant } from '../core/criteria/instants';
import { parseCriteria } from '../core/criteria/parse';
import type { Amount } from '../core/level/level';
import { isOfFiles } from '../core/plan/fates';
import { dayAfter, instantAt } from '../core/rhythm/rhythm';
import { ceilingOf } from '../core/standing/trial';
import { passes } from '../mail/problem';
import { type Account, accountById } from '../store/access/accounts';
import { bagById, createBag } from '../store/archive/bags';
import { type Queryable, transaction } from '../store/database';
import { tell } from '../store/events';
import { foldersOf } from '../store/index/folders';
import { openScan, scanById } from '../store/index/scans';
import { enqueue } from '../store/jobs';
import { amountOfLot, createLot, dropLot, uncheckedFilesOf } from '../store/plan/lots';
import {
  beginDate,
  type DateChange,
  datesSince,
  dueStanding,
  fateOfLot,
  type Note,
  nextOpenDate,
  nextUnpurged,
  type StandingDate,
  type StandingLot,
  standingById,
  updateDate,
  updateStanding,
} from '../store/plan/standing';
import { freeze } from '../store/runs/frozen';
import { giveFiles } from '../store/runs/rewrites';
import { createRun, handLots, runById } from '../store/runs/runs';
import { askForTexts } from './ask-for-texts';
import type { WorkContext } from './context';
import { provideFromOperator } from './host/rounds/provide';
import { noticeOfStanding } from './notices';
import { begin, giveBagTo, trashProblem } from './run/begin';
import { resume } from './run/resume';

/** Dates in a row that may fail; then it stops itself. */
const MOST_FAILURES = 3;

/** What is waited for is looked at again after so long; what needs a person, or the server, after longer. */
const SOON_MS = 1_000;
const LATER_MS = 600_000;

const SIGN_IN_NEEDED: Note = {
  kind: 'sign-in-needed',
  detail: 'Tamsel can’t sign in to the mailbox by itself. Sign in, and stay signed in or make a token.',
};
const SERVER_AWAY: Note = {
  kind: 'scan-failed',
  detail: 'The mailbox could not be scanned, so Tamsel waits. It tries again by itself.',
};
const SEARCH_FAILED: Note = {
  kind: 'search-failed',
  detail: 'The mail server could not be searched, so Tamsel waits. It tries again by itself.',
};

type Context = Pick<WorkContext, 'database' | 'vault'>;

/**
 * Does the next step of one date of one standing lot; whether there was one. Each step is one transaction that also says what the
 * next one is, so that a date is gone through once, wherever a worker dies.
 */
export async function stepStanding(context: Context): Promise<boolean> {
  const at = now();
  return transaction(context.database, async (client) => {
    const due = await dueStanding(client, at);
    if (due) {
      await open(client, due.account, due, at);
      return true;
    }
    const date = await nextOpenDate(client, at);
    const account = date && (await accountById(client, date.account));
    const lot = date && (await standingById(client, date.account, date.standing, { lock: true }));
    if (date && account && lot) {
      await new Step(context, client, account, lot, date, at).go();
      return true;
    }
    return purgeNext(context, client, at);
  });
}

/** Begins a date, and says when the next one is. Dates that passed while nothing ran are made up for by one. */
async function open(client: Queryable, account: number, lot: StandingLot, at: Date): Promise<void> {
  const { settings } = (await accountById(client, account)) as Account;
  await beginDate(client, account, lot.id, lot.nextOn as string, at);
  await updateStanding(client, account, lot.id, nextOf(lot, settings.timeZone, at));
  await tell(client, account, 'level', {});
}

/** The next date of a standing lot after an instant. */
export function nextOf(
  { rhythm, nextOn }: Pick<StandingLot, 'rhythm' | 'nextOn'>,
  timeZone: string,
  at: Date,
): { nextOn: string; nextAt: Date } {
  const today = dayOfInstant(at.getTime() / 1000, timeZone);
  let day = dayAfter(rhythm, nextOn !== null && nextOn >= today ? nextOn : dayBefore(today));
  // Of today it is the next one only while its time is to come.
  while (instantAt(day, rhythm.at, timeZone) <= at) day = dayAfter(rhythm, day);
  return { nextOn: day, nextAt: instantAt(day, rhythm.at, timeZone) };
}

function dayBefore(day: string): string {
  return new Date(Date.parse(`${day}T00:00:00Z`) - 86_400_000).toISOString().slice(0, 10);
}

/** One step of a date that is on its way. */
class Step {
  constructor(
    private readonly context: Context,
    private readonly client: Queryable,
    private readonly account: Account,
    private readonly lot: StandingLot,
    private readonly date: StandingDate,
    private readonly at: Date,
  ) {}

  async go(): Promise<void> {
    switch (this.date.state) {
      case 'scanning':
        return this.scanning();
      case 'saving':
        return this.saving();
      case 'asking':
        return this.asking();
      default:
        return this.running();
    }
  }

  private change(change: DateChange): Promise<void> {
    return updateDate(this.client, this.account.id, this.date, change);
  }

  private wait(ms: number, change: DateChange = {}): Promise<void> {
    return this.change({ ...change, notBefore: new Date(this.at.getTime() + ms) });
  }

  /** Sees to it that the index is as the server is, then freezes what matches. */
  private async scanning(): Promise<void> {
    const { client, account, date, context } = this;
    // Whoever stopped it meant this date too.
    if (this.lot.state !== 'on') return this.end('declined');
    if (!(await provideFromOperator(client, context.vault, account, this.lot.id, this.at)))
      return this.wait(LATER_MS, { problem: SIGN_IN_NEEDED });
    const scan = date.scan === null ? undefined : await scanById(client, account.id, date.scan);
    if (!scan) {
      const { scan: opened } = await openScan(client, account.id);
      await enqueue(client, account.id, 'scan', opened.id);
      return this.wait(SOON_MS, { scan: opened.id });
    }
    if (scan.state === 'failed') return this.wait(LATER_MS, { scan: null, problem: SERVER_AWAY });
    const parsed = parseCriteria(this.lot.where);
    if (!parsed.ok)
      return this.fail({ kind: 'criteria', detail: `Its criteria can’t be read any more: ${this.lot.where}` });
    const texts = await askForTexts(client, account.id, parsed.criteria);
    if (texts === 'failed') return this.wait(LATER_MS, { scan: null, problem: SEARCH_FAILED });
    if (texts === 'asked') return this.wait(SOON_MS);
    const trouble = trashProblem(await foldersOf(client, account.id), account, this.lot.fate);
    if (trouble) return this.fail(trouble);
    const lot = await createLot(client, account, {
      label: `${this.lot.label}, ${date.day}`,
      fate: this.lot.fate,
      selector: { where: parsed.criteria, text: this.lot.where },
      except: [],
      scope: 'mail',
      now: this.at,
    });
    await this.frozen(lot);
  }

  /** Carries out what was frozen, or asks where it is more than was foreseen. */
  private async frozen(lot: number): Promise<void> {
    const { client, account } = this;
    const amount = await amountOfLot(client, account.id, lot);
    if (amount.messages === 0) {
      await dropLot(client, account.id, lot);
      return this.end('nothing');
    }
    const isFirst = (await datesSince(client, account.id, this.lot)) === 0;
    const { trial, rhythm, most } = this.lot;
    const ceiling = trial ? ceilingOf(trial, rhythm, most, isFirst) : 0;
    const change = { ...amount, lot, ceiling: Math.min(ceiling, 2 ** 31 - 1), problem: null };
    if (amount.messages > ceiling) {
      await this.wait(SOON_MS, { ...change, state: 'asking' });
      await tell(client, account.id, 'level', {});
      await noticeOfStanding(client, account, this.lot, {
        subject: `“${this.lot.label}” asks you`,
        lines: [
          `On ${this.date.day} the standing lot “${this.lot.label}” would take ${amount.messages} messages.`,
          `That is more than the ${ceiling} that it takes without asking. Nothing was moved.`,
          'The messages are in your plan. Carry them out there, or drop them.',
        ],
      });
      return;
    }
    await this.change(change);
    await this.saveOrRun(lot, amount);
  }

  /** Files are saved before they are taken out. */
  private async saveOrRun(lot: number, amount: Amount): Promise<void> {
    const { client, account } = this;
    const files = isOfFiles(this.lot.fate) ? await uncheckedFilesOf(client, account.id, [lot]) : [];
    if (files.length === 0) return this.run(lot, amount);
    const label = `${this.lot.label}, ${this.date.day}`;
    const folder = `files-${this.date.day}`;
    const bag = await createBag(client, account.id, { label, form: 'files', place: 'here', folder, files });
    await enqueue(client, account.id, 'save', bag);
    await tell(client, account.id, 'bag', await bagById(client, account.id, bag));
    return this.wait(SOON_MS, { state: 'saving', bag });
  }

  private async saving(): Promise<void> {
    const { client, account, date } = this;
    const bag = await bagById(client, account.id, date.bag ?? 0);
    const lot = date.lot === null ? undefined : await fateOfLot(client, account.id, date.lot);
    if (!lot) return this.end('declined');
    if (lot.run !== null) return this.wait(0, { state: 'running', run: lot.run });
    if (bag?.state !== 'done')
      return this.fail(bag?.problem ?? { kind: 'cancelled', detail: 'Saving the files was cancelled.' });
    return this.run(date.lot as number, date);
  }

  private async run(lot: number, amount: Amount): Promise<void> {
    const { client, account, context } = this;
    const action = this.lot.fate;
    const id = await createRun(client, account.id, {
      action,
      label: `${this.lot.label}, ${this.date.day}`,
      selector: { lots: [lot], named: [{ label: this.lot.label, where: this.lot.where }] },
      fallback: null,
      askedBy: { user: account.user, via: 'standing', standing: this.lot.id, day: this.date.day },
    });
    const { digest, ...asked } = await freeze(client, account, id, { lots: [lot] }, 'mail', this.at);
    if (isOfFiles(action)) await giveFiles(client, account.id, id, [lot]);
    if (action === 'archive') await giveBagTo(client, account.id, id, this.lot.label);
    await handLots(client, account.id, id, [lot]);
    await begin(client, context.vault, account.id, id, { asked, digest });
    return this.wait(SOON_MS, { state: 'running', run: id, messages: amount.messages, bytes: amount.bytes });
  }

  /** The lot is in the plan, where a person carries it out or drops it. */
  private async asking(): Promise<void> {
    const lot = this.date.lot === null ? undefined : await fateOfLot(this.client, this.account.id, this.date.lot);
    if (!lot) return this.end('declined');
    return this.wait(0, { state: 'running', run: lot.run });
  }

  private async running(): Promise<void> {
    const run = await runById(this.client, this.account.id, this.date.run ?? 0);
    if (!run) return this.fail({ kind: 'internal', detail: 'Its run is gone.' });
    if (run.state === 'failed' && passes(run.problem?.kind ?? '')) {
      await resume(this.client, this.account.id, run.id);
      return this.wait(LATER_MS, { problem: run.problem });
    }
    if (run.state === 'failed') return this.fail(run.problem ?? { kind: 'internal', detail: 'Its run failed.' });
    if (run.state === 'cancelled') return this.end('declined');
    await this.end('done');
    await noticeOfStanding(this.client, this.account, this.lot, {
      subject: `“${this.lot.label}” took ${run.done.messages} messages`,
      lines: [
        `The standing lot “${this.lot.label}” was carried out for ${this.date.day}.`,
        `Taken: ${run.done.messages} of ${run.asked.messages} messages. Run ${run.id} of the ledger says more, and takes it back.`,
      ],
    });
  }

  private async end(state: 'done' | 'nothing' | 'declined'): Promise<void> {
    const { client, account } = this;
    await this.change({ state, endedAt: this.at, problem: null });
    if (state !== 'declined') await updateStanding(client, account.id, this.lot.id, { failures: 0 });
    await tell(client, account.id, 'level', {});
  }

  private async fail(problem: Note): Promise<void> {
    const { client, account, lot } = this;
    await this.change({ state: 'failed', endedAt: this.at, problem });
    const failures = lot.failures + 1;
    const stops = failures >= MOST_FAILURES;
    await updateStanding(client, account.id, lot.id, { failures, ...(stops ? { state: 'stopped' } : {}) });
    await tell(client, account.id, 'level', {});
    await noticeOfStanding(client, account, lot, {
      subject: `“${lot.label}” failed${stops ? ', and stopped itself' : ''}`,
      lines: [
        `The standing lot “${lot.label}” failed on ${this.date.day}: ${problem.detail}`,
        ...(stops ? [`It failed ${failures} times in a row, so it does nothing more until you let it.`] : []),
      ],
    });
  }
}

/** Purges what a date brought to the trash, once it has lain there as long as its standing lot says. */
async function purgeNext({ vault }: Context, client: Queryable, at: Date): Promise<boolean> {
  const date = await nextUnpurged(client, at);
  const account = date && (await accountById(client, date.account));
  const lot = date && (await standingById(client, date.account, date.standing));
  if (!date || !account || !lot || date.run === null) return false;
  const id = await createRun(client, account.id, {
    action: 'purge',
    label: `${lot.label}, ${date.day}: purged after ${lot.purgeAfterDays} days`,
    selector: { run: date.run },
    fallback: null,
    askedBy: { user: account.user, via: 'standing', standing: lot.id, day: date.day },
  });
  const { digest, ...asked } = await freeze(client, account, id, { brought: date.run }, 'trash', at);
  if (asked.messages > 0) await begin(client, vault, account.id, id, { asked, digest });
  else await client.query('delete from run where account = $1 and id = $2', [account.id, id]);
  await updateDate(client, account.id, date, { purgedAt: at, ...(asked.messages > 0 ? { purge: id } : {}) });
  return true;
}
