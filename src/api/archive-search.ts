import type { Criteria } from '../core/criteria/tree';
import { mentionsGuarded } from '../core/guards/guards';
import type { Account } from '../store/access/accounts';
import { type ArchiveSelection, selectArchived, unreadCount } from '../store/archive/archived';
import { textsIn } from '../store/index/searches';
import { criteriaFrom } from './criteria';
import type { Environment } from './environment';
import { invalid } from './problem';

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
  const texts = textsIn(criteria);
  const [found, unread] = await Promise.all([
    archiveWords.find(account.id, texts),
    texts.length > 0 ? unreadCount(database, account.id) : 0,
  ]);
  const selection = await selectArchived(database, account, criteria, found, new Date(), withMessage);
  return { selection, complete: unread === 0 };
}
