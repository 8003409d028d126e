import { now } from '../clock/clock';
import { dayOfInstant } from '../core/criteria/instants';
import { dayAfter, instantAt, type Rhythm } from '../core/rhythm/rhythm';
import { printOctets } from '../core/units';
import { type Account, accountById } from '../store/access/accounts';
import { canSignIn } from '../store/access/credentials';
import { type Queryable, transaction } from '../store/database';
import { awaitNote, dueNote, dueThreshold, noteLook, takenByItself } from '../store/habit';
import { openScan } from '../store/index/scans';
import { enqueue } from '../store/jobs';
import type { WorkContext } from './context';
import { forecastOf } from './forecast';
import { noticeOfHabit } from './notices';

/** On the first of each month, in the morning. */
const MONTHLY: Rhythm = { unit: 'month', every: 1, day: 1, from: '2020-01-01', at: '08:00' };
/** A level that moves about the threshold is told once: it has to fall this far below it first. */
const BACK = 0.02;
const MONTH_MS = 31 * 86_400_000;

/** Sends one note that is due, or does what comes before it; whether there was one. */
export async function stepHabit({ database, vault }: Pick<WorkContext, 'database' | 'vault'>): Promise<boolean> {
  return transaction(database, async (client) => (await lookAtLevel(client)) || (await monthly(client)));

  async function lookAtLevel(client: Queryable): Promise<boolean> {
    const due = await dueThreshold(client);
    const account = due && (await accountById(client, due.account));
    if (!due || !account) return false;
    const share = due.used / due.limit;
    const threshold = account.settings.mailAbove ?? 1;
    const isAbove = share >= threshold || (due.above && share > threshold - BACK);
    await noteLook(client, account.id, due.at, isAbove);
    if (isAbove && !due.above)
      await noticeOfHabit(client, account, {
        subject: `Your mailbox is ${percent(share)} full`,
        lines: [levelSentence(account, due.used, due.limit), 'Open Tamsel to see what fills it, and what would help.'],
      });
    return true;
  }

  async function monthly(client: Queryable): Promise<boolean> {
    const at = now();
    const due = await dueNote(client, at);
    const account = due && (await accountById(client, due.account));
    if (!due || !account) return false;
    const nextAt = nextNote(account, at);
    // Whoever has just asked for it gets the first one with the next month.
    if (due.nextAt === null) await awaitNote(client, account.id, { nextAt, scan: null });
    else if (due.scan === null && (await canSignIn(client, vault, account.id))) {
      const { scan } = await openScan(client, account.id);
      await enqueue(client, account.id, 'scan', scan.id);
      await awaitNote(client, account.id, { nextAt: due.nextAt, scan: scan.id });
    } else {
      await awaitNote(client, account.id, { nextAt, scan: null });
      await noticeOfHabit(client, account, {
        subject: 'Your mailbox this month',
        lines: await threeSentences(client, account, at),
      });
    }
    return true;
  }

  /** How full it is, when it will be full, and what went by itself. */
  async function threeSentences(client: Queryable, account: Account, at: Date): Promise<string[]> {
    const { used, limit, dates } = await forecastOf(database, account, at);
    const full = dates.find(({ what }) => what === 'full');
    const { messages, bytes, asking } = await takenByItself(client, account.id, new Date(at.getTime() - MONTH_MS));
    return [
      limit === null
        ? `Your mailbox holds ${printOctets(used, account.settings.units)}; its server tells no limit.`
        : levelSentence(account, used, limit),
      full?.likely
        ? `As it goes now, it is full on about ${dayOfInstant(full.likely.getTime() / 1000, account.settings.timeZone)}.`
        : full
          ? 'As it goes now, it is not full within ten years.'
          : 'When it will be full can’t be told yet.',
      asking > 0
        ? `A standing lot asks you: its messages are in your plan.`
        : messages > 0
          ? `In the last month ${messages} messages, ${printOctets(bytes, account.settings.units)}, went by themselves.`
          : 'Nothing went by itself in the last month.',
    ];
  }
}

function nextNote({ settings: { timeZone } }: Account, at: Date): Date {
  const day = dayAfter(MONTHLY, dayOfInstant(at.getTime() / 1000, timeZone));
  return instantAt(day, MONTHLY.at, timeZone);
}

function levelSentence({ settings }: Account, used: number, limit: number): string {
  return `Your mailbox is ${percent(used / limit)} full: ${printOctets(used, settings.units)} of ${printOctets(limit, settings.units)}.`;
}

function percent(share: number): string {
  return `${Math.round(share * 100)} %`;
}
