import type { Queryable } from '../../store/database';
import { tell } from '../../store/events';
import { enqueue } from '../../store/jobs';
import { type Run, runById, runsToSignInFor, updateRun } from '../../store/runs/runs';

/** Goes on with a run that stands still, in a transaction of the caller's; with `cancel`, to end it. */
export async function resume(
  client: Queryable,
  account: number,
  id: number,
  wanted: 'cancel' | null = null,
): Promise<void> {
  await updateRun(client, account, id, { state: 'queued', problem: null, wanted });
  await enqueue(client, account, 'run', id);
  await tell(client, account, 'run', (await runById(client, account, id)) as Run);
}

/** Goes on with what stopped because nobody was signed in. */
export async function resumeAfterSignIn(client: Queryable, account: number): Promise<void> {
  for (const id of await runsToSignInFor(client, account)) await resume(client, account, id);
}
