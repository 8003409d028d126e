import { askSpace } from '../../dav/listing';
import { SpaceProblem } from '../../dav/problem';
import { MailProblem } from '../../mail/problem';
import type { Account } from '../../store/access/accounts';
import { type Queryable, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { enqueue } from '../../store/jobs';
import { beginListing, spacesOf, updateSpace } from '../../store/space/spaces';
import type { WorkContext } from '../context';
import { SignInNeeded } from '../sign-in';
import { openSpace } from './sign-in';

/** Milliseconds after which a file space is listed again whose server can't tell what changed: it is asked for every folder then. */
const FULL_LISTING_MS = 6 * 3_600_000;

/** Has the file spaces of an account listed again after a scan, where that is cheap or was not done for long. */
export async function listSpacesAgain(db: Queryable, account: number): Promise<void> {
  for (const { id, state, listedAt, syncToken } of await spacesOf(db, account)) {
    if (state === 'locked' || listedAt === null) continue;
    const isDue = syncToken !== null || Date.now() - listedAt.getTime() > FULL_LISTING_MS;
    if (isDue && (await beginListing(db, account, id))) await enqueue(db, account, 'list-space', id);
  }
}

/**
 * Asks the servers of file spaces how full they are, after something that changes it. Where one can't be asked now, what it said before
 * stays.
 */
export async function askSpacesAgain(context: WorkContext, account: Account): Promise<void> {
  const { database } = context;
  for (const space of await spacesOf(database, account.id)) {
    if (space.state === 'locked' || space.askedAt === null) continue;
    try {
      const client = await openSpace(context, account, space);
      try {
        const { quotaUsed = null, quotaAvailable = null } = await askSpace(client, space.root);
        await transaction(database, async (db) => {
          await updateSpace(db, account.id, space.id, { quotaUsed, quotaAvailable, askedAt: new Date() });
          await tell(db, account.id, 'space', { id: space.id });
        });
      } finally {
        client.close();
      }
    } catch (error) {
      const isTold = error instanceof SpaceProblem || error instanceof MailProblem || error instanceof SignInNeeded;
      if (!isTold) throw error;
    }
  }
}
