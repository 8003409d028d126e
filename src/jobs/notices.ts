import { printOctets } from '../core/units';
import { submit } from '../mail/submission';
import { type Account, accountById } from '../store/access/accounts';
import type { Bag } from '../store/archive/bags';
import { type Queryable, transaction } from '../store/database';
import type { Scan } from '../store/index/scans';
import { addNotice, dropNotice, nextNotice, postponeNotice } from '../store/notices';
import type { Run } from '../store/runs/runs';
import type { WorkContext } from './context';

/** What is long enough to have walked away from, in milliseconds. */
const LONG_MS = 60_000;
/** A submission server that takes nothing for so long is not waited for: about a day. */
const MAX_ATTEMPTS = 20;
const FIRST_WAIT_SECONDS = 5;
const MAX_WAIT_SECONDS = 3_600;

const WORDS: Record<Run['action'], string> = {
  trash: 'moved to the trash, where they still count',
  archive: 'saved in the archive, checked, and moved to the trash, where they still count',
  purge: 'purged',
  restore: 'taken back',
  'put-back': 'put back into the mailbox',
  strip: 'kept without their files; the originals are in the trash, where they still count',
  shrink: 'kept with smaller pictures; the originals are in the trash, where they still count',
};

/** Has a mail sent about a run that ended, where the user wants one. */
export async function noticeOfRun(db: Queryable, account: Account, run: Run): Promise<void> {
  const { units } = account.settings;
  const left = run.left.map(({ reason, messages }) => `  ${messages} ${reason}`);
  await notify(db, account, {
    since: run.startedAt,
    subject: `Run ${run.id} has ended: ${run.done.messages} messages ${WORDS[run.action]}`,
    lines: [
      `Asked: ${run.asked.messages} messages, ${printOctets(run.asked.bytes, units)}.`,
      `Done: ${run.done.messages} messages, ${printOctets(run.done.bytes, units)}.`,
      ...(left.length > 0 ? ['Left, by reason:', ...left] : ['Nothing was left.']),
    ],
  });
}

/** Has a mail sent about a scan that ended, where the user wants one. */
export async function noticeOfScan(db: Queryable, account: Account, scan: Scan): Promise<void> {
  await notify(db, account, {
    since: scan.createdAt,
    subject: 'Your mailbox has been scanned',
    lines: [`Scan ${scan.id} of ${account.user} has ended: ${scan.messages.done} new messages were read.`],
  });
}

/** Has a mail sent about a bag that is ready, where the user wants one. */
export async function noticeOfBag(db: Queryable, account: Account, bag: Bag): Promise<void> {
  const what = bag.form === 'mbox' ? 'messages' : 'files';
  const left = bag.left.map(({ reason, files }) => `  ${files} ${reason}`);
  await notify(db, account, {
    since: bag.createdAt,
    subject: `Bag ${bag.id} is ready: ${bag.saved.files} ${what} are saved`,
    lines: [
      `Asked: ${bag.asked.files} ${what}. Saved: ${bag.saved.files}, ${printOctets(bag.saved.bytes, account.settings.units)}.`,
      ...(bag.place === 'here'
        ? [`Read back from the disk and equal: ${bag.checked.files}.`]
        : ['Download it, then hand your copy in to have it checked.']),
      ...(left.length > 0 ? ['Left, by reason:', ...left] : ['Nothing was left.']),
    ],
  });
}

/** Has a mail sent about a bag that is not any more what was saved, where the user wants mail. */
export async function noticeOfDamage(db: Queryable, account: Account, bag: Bag): Promise<void> {
  await notify(db, account, {
    since: null,
    isUrgent: true,
    subject: `Bag ${bag.id} of your archive is damaged`,
    lines: [
      `Tamsel read every octet of bag ${bag.id}, ${bag.label}, again.`,
      `${bag.damaged.files} messages or files are not any more what was saved.`,
      'Open Archive to see which, and to repair them from a copy, the mailbox or the trash.',
    ],
  });
}

/** Has a mail sent about what a standing lot did, or did not, where the user wants that of it. */
export async function noticeOfStanding(
  db: Queryable,
  account: Account,
  { mail }: { mail: boolean },
  told: { subject: string; lines: string[] },
): Promise<void> {
  if (mail) await noticeOfHabit(db, account, told);
}

/** Has a mail sent about how full the mailbox is, to who has asked for that. */
export async function noticeOfHabit(
  db: Queryable,
  account: Account,
  { subject, lines }: { subject: string; lines: string[] },
): Promise<void> {
  const { mailTo } = account.settings;
  if (mailTo) await addNotice(db, account.id, { recipient: mailTo, subject, body: text(lines) });
}

async function notify(
  db: Queryable,
  account: Account,
  told: { since: Date | null; isUrgent?: boolean; subject: string; lines: string[] },
): Promise<void> {
  const { mailWhen, mailTo } = (await accountById(db, account.id))?.settings ?? account.settings;
  if (
    mailWhen === 'never' ||
    (mailWhen === 'long' && !told.isUrgent && Date.now() - (told.since?.getTime() ?? Date.now()) < LONG_MS)
  )
    return;
  // Only where somebody has typed the code that was sent there.
  if (mailTo) await addNotice(db, account.id, { recipient: mailTo, subject: told.subject, body: text(told.lines) });
}

/** Has a mail sent about a sign-in from a browser that was not used for the mailbox before, where the user wants one. */
export async function noticeOfSignIn(db: Queryable, account: Account, from: string): Promise<void> {
  const { mailNewBrowser, mailTo } = (await accountById(db, account.id))?.settings ?? account.settings;
  if (!mailNewBrowser || !mailTo) return;
  const lines = [
    `Somebody signed in to ${account.user} in Tamsel, from a browser that was not used for it before.`,
    `When: ${new Date().toISOString()}. From the network: ${from}.`,
    '',
    'If that was you, there is nothing to do.',
    'If not, change the password of the mailbox at your provider. Then sign in to Tamsel with the new one: that ends all other sessions.',
  ];
  await addNotice(db, account.id, { recipient: mailTo, subject: 'A new browser signed in', body: text(lines) });
}

/** Has a code sent to an address that mail is wanted at. False where too many mails were sent today. Nothing that anybody chose is in it. */
export function noticeOfCode(db: Queryable, account: number, recipient: string, code: string): Promise<boolean> {
  const lines = [
    'Somebody wants Tamsel to send mail about a mailbox to this address.',
    '',
    `If that was you, type this code in the settings of Tamsel: ${code}`,
    '',
    'The code is good for one hour. If it was not you, there is nothing to do: nothing more will be sent.',
  ];
  return addNotice(db, account, { recipient, subject: 'Your code for Tamsel', body: text(lines) });
}

function text(lines: readonly string[]): string {
  return `${lines.join('\n')}\n`;
}

/** Hands what waits to the submission server; true where there may be more. */
export async function sendNotice({ database, submission, log }: WorkContext): Promise<boolean> {
  if (!submission) return false;
  return transaction(database, async (client) => {
    const notice = await nextNotice(client);
    if (!notice) return false;
    try {
      await submit(submission, { to: notice.recipient, subject: notice.subject, text: notice.body });
      await dropNotice(client, notice);
    } catch (error) {
      log.warn({ err: error, notice: notice.id }, 'a notice was not taken');
      if (notice.attempts + 1 >= MAX_ATTEMPTS) await dropNotice(client, notice);
      else await postponeNotice(client, notice, Math.min(MAX_WAIT_SECONDS, FIRST_WAIT_SECONDS * 2 ** notice.attempts));
    }
    return true;
  });
}
