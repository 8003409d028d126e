import { countAttempt, type Subject } from '../store/access/attempts';
import type { Database } from '../store/database';
import { Problem } from './problem';

/**
 * Counts an attempt by each of several subjects.
 *
 * @returns how many each had before.
 * @throws Problem 429 with Retry-After where any has too many.
 */
export async function takeAttempt(database: Database, subjects: readonly Subject[]): Promise<number[]> {
  const { wait, before } = await countAttempt(database, subjects);
  if (wait === 0) return before;
  throw new Problem(
    429,
    'too-many-attempts',
    'Too many attempts',
    `There were too many attempts. Try again in ${wait} seconds.`,
    undefined,
    { 'retry-after': `${wait}` },
  );
}
