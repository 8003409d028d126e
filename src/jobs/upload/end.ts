import type { Queryable } from '../../store/database';
import { tell } from '../../store/events';
import { enqueue } from '../../store/jobs';
import { noteFigures } from '../../store/space/listing';
import { beginListing } from '../../store/space/spaces';
import { leaveRestOfUpload, type SpaceUpload, sentOfUpload, updateUpload } from '../../store/space/uploads';

/** Ends an upload, for now or for good. What it put there stays. */
export async function endUpload(
  db: Queryable,
  account: number,
  { id, space }: Pick<SpaceUpload, 'id' | 'space'>,
  state: 'done' | 'paused' | 'cancelled',
): Promise<void> {
  if (state !== 'paused') {
    // What was sent, and nobody saw whether it came, is found by a listing.
    const isUnseen = (await sentOfUpload(db, account, id)).length > 0;
    await leaveRestOfUpload(db, account, id, state === 'done' ? 'vanished' : 'cancelled');
    if (isUnseen && (await beginListing(db, account, space))) await enqueue(db, account, 'list-space', space);
  }
  await noteFigures(db, account, space);
  await updateUpload(db, account, id, { state, wanted: null, attempts: 0, problem: null });
  await tell(db, account, 'space', { id: space });
  await tell(db, account, 'level', {});
  await tell(db, account, 'upload', { id, state });
}
