import { countAttempt } from '../store/attempts';
import type { Database } from '../store/database';
import { Problem } from './problem';

/**
 * Counts attempts by each of several subjects, every one with how many it has within five minutes.
 *
 * @throws Problem 429 with Retry-After where any has too many.
 */
export async function admitAttempts(
  database: Database,
  subjects: readonly (readonly [string, number])[],
): Promise<void> {
  const waits: number[] = [];
  for (const [subject, most] of subjects) waits.push(await countAttempt(database, subject, most));
  const wait = Math.max(...waits);
  if (wait === 0) return;
  throw new Problem(
    429,
    'too-many-attempts',
    'Too many attempts',
    `There were too many attempts. Try again in ${wait} seconds.`,
    undefined,
    { 'retry-after': `${wait}` },
  );
}
