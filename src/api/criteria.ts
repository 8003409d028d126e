import { setTimeout as sleep } from 'node:timers/promises';
import { type Parsed, parseCriteria } from '../core/criteria/parse';
import type { Criteria } from '../core/criteria/tree';
import type { Account } from '../store/access/accounts';
import { type Database, transaction } from '../store/database';
import { openSearch, type Search, searchById, textsIn } from '../store/index/searches';
import { enqueue } from '../store/jobs';
import { conflict, Problem } from './problem';

/** Parses a `where`; where it is wrong, the problem says at which place. */
export function criteriaFrom(where: string): Criteria {
  return parsedOrProblem(parseCriteria(where));
}

/** What was parsed, or a problem that says at which place of `where` it is wrong. */
export function parsedOrProblem(parsed: Parsed): Criteria {
  if (parsed.ok) return parsed.criteria;
  const { at, expected } = parsed.error;
  throw new Problem(
    422,
    'criteria',
    'The criteria can’t be read',
    `At character ${at + 1} Tamsel expected ${expected}.`,
    [{ field: 'where', at, expected }],
  );
}

/** How long a call waits for the mail server to search, before it says to come again. */
const PATIENCE_MS = 20_000;
const LOOK_MS = 150;

/** Parses a `where` and sees to it that the texts which only the mail server can find have been asked for. */
export async function readyCriteria(database: Database, account: Account, where: string): Promise<Criteria> {
  const criteria = criteriaFrom(where);
  const end = Date.now() + PATIENCE_MS;
  for (const text of textsIn(criteria)) {
    const { search } = await askFor(database, account.id, text);
    let state: Search | undefined = search;
    while (state && state.state !== 'done') {
      if (state.state === 'failed')
        throw conflict('search-failed', state.problem?.detail ?? 'The mail server could not be asked.');
      if (Date.now() > end)
        throw new Problem(
          503,
          'searching',
          'The mail server is searching',
          `The mail server is still searching for “${text}”. Try again in a moment.`,
          undefined,
          { 'retry-after': '5' },
        );
      await sleep(LOOK_MS);
      state = await searchById(database, account.id, search.id);
    }
  }
  return criteria;
}

/** Has the server asked for a text; `isNew` where something is left to ask. */
export async function askFor(
  database: Database,
  account: number,
  text: string,
): Promise<{ search: Search; isNew: boolean }> {
  return transaction(database, async (client) => {
    const { search, fresh } = await openSearch(client, account, text);
    if (!fresh) await enqueue(client, account, 'search', search.id);
    return { search, isNew: !fresh };
  });
}
