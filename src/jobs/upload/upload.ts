import { roomToFill } from '../../core/space/share';
import type { Watch } from '../../dav/client';
import { askSpace } from '../../dav/listing';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { lastReading } from '../../store/index/readings';
import { finishJob, type Job } from '../../store/jobs';
import { countsAgainst } from '../../store/space/counting';
import { spaceById, updateSpace } from '../../store/space/spaces';
import { uploadById } from '../../store/space/uploads';
import type { Turn, WorkContext } from '../context';
import { fenceOf } from '../fence';
import { quotaSnapshot } from '../run/conclude';
import { openSpace } from '../space/sign-in';
import { Stopped } from '../stopped';
import { endUpload } from './end';
import { Uploading } from './uploading';

/**
 * Puts files of messages into a file space, and reads each back. The messages stay as they are: what lies there can be taken out of them
 * by a run.
 *
 * @param another signs in to the mailbox once more, for many.
 */
export async function upload(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  another: () => Promise<MailServer>,
  turn: Turn,
  watch: Watch,
): Promise<void> {
  const { database } = context;
  const asked = await uploadById(database, account.id, job.subject);
  const space = asked && (await spaceById(database, account.id, asked.space));
  if (!asked || !space) return finishJob(database, job);
  const fenced = fenceOf(context, job);
  const end = (state: 'done' | 'paused' | 'cancelled') =>
    fenced(async (db) => {
      await endUpload(db, account.id, asked, state);
      await finishJob(db, job);
    });
  const client = await openSpace(context, account, space, watch);
  try {
    const { quotaUsed: used = null, quotaAvailable: left = null } = await askSpace(client, space.root);
    const counts = countsAgainst(
      { ...space, quotaUsed: used, quotaAvailable: left },
      await lastReading(database, account.id),
    );
    const room = left === null ? undefined : roomToFill(left, counts);
    const uploading = new Uploading(context, fenced, account, turn, asked, space, client, room);
    try {
      await uploading.carryOut(server, another);
    } catch (error) {
      if (!(error instanceof Stopped)) throw error;
      return await end(error.wanted === 'pause' ? 'paused' : 'cancelled');
    }
    const { quotaUsed = null, quotaAvailable = null } = await askSpace(client, space.root);
    await fenced((db) => updateSpace(db, account.id, space.id, { quotaUsed, quotaAvailable, askedAt: new Date() }));
    // Where both share a limit, the mail server counts them too.
    await quotaSnapshot(database, account, server);
    await end('done');
  } finally {
    client.close();
  }
}
