import type { Account } from '../../store/access/accounts';
import { type Bag, bagById, noteChecked } from '../../store/archive/bags';
import { beginReading, endReading, noteDamaged } from '../../store/archive/fixity';
import { tell } from '../../store/events';
import { isAwaited } from '../../store/jobs';
import type { Turn, WorkContext } from '../context';
import type { Fence } from '../fence';
import { noticeOfDamage } from '../notices';
import { intakeOf } from '../save/intake-of';

/** Days after which every octet of a bag is read again. */
export const READ_AGAIN_DAYS = 30;

/**
 * Reads every octet of a bag again, where that is due, and notes what is not any more what was saved. What was read since it
 * began is not read twice.
 *
 * @param givesWay to whatever waits.
 * @returns whether it is through.
 */
export async function checkBag(
  { database, archive, log }: Pick<WorkContext, 'database' | 'archive' | 'log'>,
  account: Account,
  bag: Bag,
  fenced: Fence,
  turn: Turn,
  givesWay = true,
): Promise<boolean> {
  const since = await fenced((client) => beginReading(client, account.id, bag.id, READ_AGAIN_DAYS));
  if (!since) return true;
  const folder = archive.bag(account.id, bag.folder);
  for await (const { equal, left } of intakeOf(database, account, bag, folder).readBack(since)) {
    const damaged = left.map(({ file }) => file);
    await fenced(async (client) => {
      await noteChecked(client, account.id, bag.id, equal);
      await noteDamaged(client, account.id, bag.id, damaged);
      await turn.progressed(client);
    });
    if (damaged.length > 0)
      log.error({ account: account.id, bag: bag.id, damaged }, 'what was saved has changed on the disk');
    if (givesWay && (await isAwaited(database, account.id, 'bring-in'))) return false;
  }
  // Whoever was killed while it was held left it as it was.
  if (bag.heldUntil !== null && (await folder.isWhole())) await folder.protect();
  const tags = await folder.tagsThatDiffer();
  await fenced(async (client) => {
    await endReading(client, account.id, bag.id, tags);
    const now = (await bagById(client, account.id, bag.id)) as Bag;
    // What was deleted meanwhile is not damaged.
    if (now.state !== 'done') return;
    if (now.damaged.files + tags.length > 0) await noticeOfDamage(client, account, now);
    await tell(client, account.id, 'bag', now);
    await tell(client, account.id, 'level', {});
  });
  return true;
}
