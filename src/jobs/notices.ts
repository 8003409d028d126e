import { printOctets } from '../core/units';
import { submit } from '../mail/submission';
import { type Account, accountById } from '../store/accounts';
import { type Queryable, transaction } from '../store/database';
import { addNotice, dropNotice, nextNotice, postponeNotice } from '../store/notices';
import type { Run } from '../store/runs';
import type { Scan } from '../store/scans';
import type { WorkContext } from './context';

/** What is long enough to have walked away from, in milliseconds. */
const LONG_MS = 60_000;
/** A submission server that takes nothing for so long is not waited for: about a day. */
const MOST_ATTEMPTS = 20;
const FIRST_WAIT_SECONDS = 5;
const LONGEST_WAIT_SECONDS = 3_600;

const WORDS: Record<Run['action'], string> = {
  trash: 'moved to the trash, where they still count',
  purge: 'purged',
  restore: 'taken back',
};

/** Has a mail sent about a run that ended, where the user wants one. */
export async function noticeOfRun(db: Queryable, account: Account, run: Run): Promise<void> {
  const { units } = account.settings;
  const left = run.left.map(({ reason, messages }) => `  ${messages} ${reason}`);
  await notify(db, account, {
    since: run.startedAt,
    subject: `Run ${run.id} has ended: ${run.done.messages} messages ${WORDS[run.action]}`,
    lines: [
      `Run ${run.id}, ${run.label}.`,
      '',
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

async function notify(
  db: Queryable,
  account: Account,
  told: { since: Date | null; subject: string; lines: string[] },
): Promise<void> {
  const fresh = await accountById(db, account.id);
  const { mailWhen, mailTo } = fresh?.settings ?? account.settings;
  if (mailWhen === 'never' || (mailWhen === 'long' && Date.now() - (told.since?.getTime() ?? Date.now()) < LONG_MS))
    return;
  const recipient = mailTo ?? account.user;
  if (!recipient.includes('@')) return;
  await addNotice(db, account.id, { recipient, subject: told.subject, body: `${told.lines.join('\n')}\n` });
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
      if (notice.attempts + 1 >= MOST_ATTEMPTS) await dropNotice(client, notice);
      else
        await postponeNotice(client, notice, Math.min(LONGEST_WAIT_SECONDS, FIRST_WAIT_SECONDS * 2 ** notice.attempts));
    }
    return true;
  });
}
