import type { Criteria } from '../core/criteria/tree';
import type { Queryable } from '../store/database';
import { openSearch, searchById, textsIn } from '../store/index/searches';
import { enqueue } from '../store/jobs';

/**
 * Sees to it that the mail server is asked for the texts of criteria that only it can look for, in a transaction of the caller's.
 *
 * @returns `known` where there is nothing left to ask.
 */
export async function askForTexts(
  client: Queryable,
  account: number,
  criteria: Criteria,
): Promise<'known' | 'asked' | 'failed'> {
  for (const text of textsIn(criteria)) {
    const { search, fresh } = await openSearch(client, account, text);
    if (fresh) continue;
    if ((await searchById(client, account, search.id))?.state === 'failed') return 'failed';
    await enqueue(client, account, 'search', search.id);
    return 'asked';
  }
  return 'known';
}
