import { accountById } from '../store/access/accounts';
import { canSignIn } from '../store/access/credentials';
import { bagById, createBag, updateBag } from '../store/archive/bags';
import {
  awaitScan,
  dueRetention,
  markAsJournal,
  newForRetention,
  openJournal,
  postponeRetention,
} from '../store/archive/retention';
import { type Queryable, transaction } from '../store/database';
import { tell } from '../store/events';
import { openScan } from '../store/index/scans';
import { enqueue } from '../store/jobs';
import type { WorkContext } from './context';

const SIGN_IN_NEEDED = {
  kind: 'sign-in-needed',
  detail: 'Tamsel can’t sign in to the mailbox by itself. Sign in, and stay signed in or make a token.',
};
const SCAN_FAILED = { kind: 'scan-failed', detail: 'The mailbox could not be scanned, so what is new is not known.' };

/**
 * Does the next step of one account whose mail is saved every night: a scan first, then a bag of what is new. Whether there was one.
 * Nothing in the mailbox changes.
 */
export async function stepRetention({ database, vault }: Pick<WorkContext, 'database' | 'vault'>): Promise<boolean> {
  return transaction(database, async (client) => {
    const due = await dueRetention(client);
    const account = due && (await accountById(client, due.account));
    if (!due || !account) return false;
    const postpone = (isSaved: boolean, problem: { kind: string; detail: string } | null) =>
      postponeRetention(client, account.id, account.settings.timeZone, { isSaved, problem });
    if (!(await canSignIn(client, vault, account.id))) await postpone(false, SIGN_IN_NEEDED);
    else if (due.scan === null) {
      const { scan } = await openScan(client, account.id);
      await enqueue(client, account.id, 'scan', scan.id);
      await awaitScan(client, account.id, scan.id);
    } else if (due.scan.state !== 'done') await postpone(false, SCAN_FAILED);
    else {
      const open = await openJournal(client, account.id);
      // What failed last night is taken up again; what somebody paused waits for them.
      if (open?.state === 'failed') {
        await updateBag(client, account.id, open.id, { state: 'queued', attempts: 0 });
        await enqueue(client, account.id, 'save', open.id);
      }
      const isSaved = !open && !(await beginToSave(client, account.id, due.years));
      await postpone(isSaved, null);
    }
    await tell(client, account.id, 'level', {});
    return true;
  });
}

/** Begins to save what is new; whether there is anything. */
async function beginToSave(client: Queryable, account: number, years: number): Promise<boolean> {
  const files = await newForRetention(client, account, years);
  if (files.length === 0) return false;
  const day = new Date().toISOString().slice(0, 10);
  const id = await createBag(client, account, {
    label: `Retention, ${day}`,
    form: 'mbox',
    place: 'here',
    folder: `retention-${day}`,
    files,
  });
  await markAsJournal(client, account, id);
  await enqueue(client, account, 'save', id);
  await tell(client, account, 'bag', await bagById(client, account, id));
  return true;
}
