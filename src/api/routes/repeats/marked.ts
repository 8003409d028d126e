import * as clock from '../../../clock/clock';
import type { Fate } from '../../../core/plan/fates';
import type { Account } from '../../../store/access/accounts';
import { type Database, type Queryable, transaction } from '../../../store/database';
import { tell } from '../../../store/events';
import { createLot, type Lot, planOf } from '../../../store/plan/lots';
import type { Promised } from '../../../store/plan/taken';
import { conflict, invalid } from '../../problem';

/** What is to be marked, of messages or of files. */
export interface Chosen {
  ids: number[];
  bytes: number;
  label: string;
  fate: Fate;
  promise: Promised | null;
}

/**
 * Makes a lot of what can go, as it is now.
 *
 * @param expected what whoever asks has seen; number of messages or files, and octets.
 * @param choose finds it, in the transaction that marks it.
 */
export async function marked(
  database: Database,
  account: Account,
  expected: { number: number; bytes: number } | undefined,
  field: string,
  choose: (client: Queryable) => Promise<Chosen>,
): Promise<Lot> {
  return transaction(database, async (client) => {
    await client.query('select 1 from account where id = $1 for no key update', [account.id]);
    const { ids, bytes, label, fate, promise } = await choose(client);
    if (ids.length === 0)
      throw invalid('Nothing of these can go, so there is nothing to mark.', [
        { field, expected: 'what exists more than once, and can go' },
      ]);
    if (expected && (expected.number !== ids.length || expected.bytes !== bytes))
      throw conflict(
        'not-as-expected',
        'The mailbox has changed in the meantime. Check what can go now, and mark again.',
      );
    const made = await createLot(client, account, {
      label: label.slice(0, 200),
      fate,
      selector: { ids },
      except: [],
      scope: 'mail',
      promise,
      now: clock.now(),
    });
    await tell(client, account.id, 'level', {});
    const lot = (await planOf(client, account.id)).lots.find(({ id }) => id === made);
    if (!lot) throw new Error('a lot that was made is not in the plan');
    return lot;
  });
}
