import { PER_HOST } from '../jobs/limits';
import type { Queryable } from '../store/database';
import { type Wait, waitOf } from '../store/jobs';

/** Why a scan, a run, an upload or the saving of files that is open is not being done now; nothing where it is. */
export async function waitsOf(
  db: Queryable,
  account: number,
  kind: 'scan' | 'run' | 'save' | 'bring-in' | 'upload',
  { id, state }: { id: number; state: string },
): Promise<{ waits?: Wait }> {
  if (state !== 'queued' && state !== 'running') return {};
  const waits = await waitOf(db, account, kind, id, PER_HOST);
  return waits ? { waits } : {};
}
