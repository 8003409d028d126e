import * as clock from '../clock/clock';
import { type Criteria, mentionsPlaces } from '../core/criteria/tree';
import { mentionsGuarded } from '../core/guards/guards';
import type { Account } from '../store/access/accounts';
import { type ArchiveSelection, selectArchived, unreadCount } from '../store/archive/archived';
import { textsIn } from '../store/index/searches';
import { criteriaFrom } from './criteria';
import type { Environment } from './environment';
import { invalid, Problem } from './problem';

/** The messages of the archive that match, and whether these are all: texts whose words are not read yet are not found. */
export async function searchArchive(
  { database, archiveWords }: Environment,
  account: Account,
  where: string,
  withMessage: boolean,
): Promise<{ selection: ArchiveSelection; complete: boolean }> {
  const criteria: Criteria = criteriaFrom(where);
  if (mentionsGuarded(criteria))
    throw invalid('Guards protect messages of the mailbox. In the archive there is nothing that they keep.', [
      { field: 'where', expected: 'criteria without guarded' },
    ]);
  if (mentionsPlaces(criteria))
    throw invalid('Newest and monthly are asked of the mailbox, not of the archive.', [
      { field: 'where', expected: 'criteria without newest and monthly' },
    ]);
  const texts = textsIn(criteria);
  const [found, unread] = await Promise.all([
    archiveWords.find(account.id, texts),
    texts.length > 0 ? unreadCount(database, account.id) : 0,
  ]);
  const selection = await selectArchived(database, account, criteria, found, clock.now(), withMessage);
  return { selection, complete: unread === 0 };
}

/**
 * The messages of the archive that match, for something that is done with all of them.
 *
 * @throws Problem 503 while words are being read that tell which these are.
 */
export async function allOfArchive(
  environment: Environment,
  account: Account,
  where: string,
): Promise<ArchiveSelection> {
  const { selection, complete } = await searchArchive(environment, account, where, false);
  if (complete) return selection;
  throw new Problem(
    503,
    'searching',
    'Words are still being read',
    'Tamsel is still reading words of the archive, so it can’t tell yet which messages match. Try again in a moment.',
    undefined,
    { 'retry-after': '5' },
  );
}
