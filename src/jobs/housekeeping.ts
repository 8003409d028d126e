import { clientFor } from '../mail/authorization/clients';
import { Grants } from '../mail/authorization/grants';
import { isPassing } from '../mail/problem';
import { forgetOverdueRequests } from '../store/access/authorization-requests';
import { forgetCredential } from '../store/access/credentials';
import { endOverdue } from '../store/access/sessions';
import { dueWithdrawal, endWithdrawal, postponeWithdrawal } from '../store/access/token-revocations';
import { bagById, overdueDownload, updateBag } from '../store/archive/bags';
import { overdueUpload } from '../store/archive/brought';
import { dueBags } from '../store/archive/fixity';
import { transaction } from '../store/database';
import { tell } from '../store/events';
import { forgetOperators } from '../store/host/operators';
import { dueForScan, openScan } from '../store/index/scans';
import { enqueue } from '../store/jobs';
import { READ_AGAIN_DAYS } from './archive/check-bag';
import type { WorkContext } from './context';

/** Deletes expired sessions and requests, and credentials that nobody needs any more. */
export async function deleteExpired({ database }: Pick<WorkContext, 'database'>): Promise<void> {
  await transaction(database, async (client) => {
    await forgetOverdueRequests(client);
    for (const account of await endOverdue(client)) await forgetCredential(client, account);
    await forgetOperators(client);
  });
}

/**
 * Deletes the files of a bag that was made ready for a download long ago; whether there was one. The files go first: killed in
 * between, it is done again.
 */
export async function deleteOverdueDownload({
  database,
  archive,
}: Pick<WorkContext, 'database' | 'archive'>): Promise<boolean> {
  return transaction(database, async (client) => {
    const bag = await overdueDownload(client);
    if (!bag) return false;
    await archive.bag(bag.account, bag.folder).erase();
    await updateBag(client, bag.account, bag.id, { state: 'erased' });
    await tell(client, bag.account, 'bag', await bagById(client, bag.account, bag.id));
    return true;
  });
}

/** Lets go of a file that was to be brought in, and of which nothing has come for long; whether there was one. */
export async function cancelOverdueUpload({
  database,
  archive,
}: Pick<WorkContext, 'database' | 'archive'>): Promise<boolean> {
  return transaction(database, async (client) => {
    const bag = await overdueUpload(client);
    if (!bag) return false;
    await archive.upload(bag.account, bag.folder).erase();
    await updateBag(client, bag.account, bag.id, { state: 'cancelled' });
    await tell(client, bag.account, 'bag', await bagById(client, bag.account, bag.id));
    return true;
  });
}

/** Begins a scan that is due by itself; whether there was one. */
export async function beginDueScan({ database }: Pick<WorkContext, 'database'>): Promise<boolean> {
  return transaction(database, async (client) => {
    const account = await dueForScan(client);
    if (account === undefined) return false;
    const { scan } = await openScan(client, account);
    await enqueue(client, account, 'scan', scan.id);
    return true;
  });
}

/** Has bags read whose words are not known, or that are to be read again. */
export async function beginDueReadings({ database }: Pick<WorkContext, 'database'>): Promise<void> {
  for (const { account, id } of await dueBags(database, READ_AGAIN_DAYS))
    await enqueue(database, account, 'read-bag', id);
}

/** Takes back, at who gave them, the tokens of one account that was forgotten; whether there were any. */
export async function revokeTokens({ database, vault, outbound, log }: WorkContext): Promise<boolean> {
  return transaction(database, async (client) => {
    const due = await dueWithdrawal(client, vault);
    if (!due) return false;
    const { taken } = due;
    const registered = taken && clientFor(taken.host, outbound.authorization);
    try {
      if (taken && registered) await new Grants(registered, outbound).revoke(taken.tokens);
      await endWithdrawal(client, due.id);
    } catch (error) {
      log.warn({ err: error, host: taken?.host }, 'tokens could not be taken back');
      if (isPassing(error)) await postponeWithdrawal(client, due.id);
      else await endWithdrawal(client, due.id);
    }
    return true;
  });
}
