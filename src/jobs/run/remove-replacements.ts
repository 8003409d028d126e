import * as clock from '../../clock/clock';
import { trashFolders } from '../../core/mailbox/folders';
import type { Ranges } from '../../core/sets/ranges';
import type { Account } from '../../store/access/accounts';
import type { Vault } from '../../store/access/vault';
import type { Queryable } from '../../store/database';
import { foldersOf } from '../../store/index/folders';
import { freeze } from '../../store/runs/frozen';
import { needlessReplacements, overrideGuards } from '../../store/runs/rewrites';
import { createRun, type Run } from '../../store/runs/runs';
import { begin } from './begin';

/**
 * Where the original of a message that lost files is back, or never went, what was put in its place is needless: a run of its
 * own brings it to the trash. In the transaction that ends another run, so that no kill comes between.
 *
 * @param originals members of the run that ends.
 */
export async function removeReplacements(
  client: Queryable,
  vault: Vault,
  account: Account,
  after: Run,
  originals: Ranges,
): Promise<void> {
  const trash = trashFolders(await foldersOf(client, account.id), account.settings.trashFolder);
  const ids = await needlessReplacements(
    client,
    account.id,
    originals,
    trash.map(({ id }) => id),
  );
  if (ids.length === 0 || trash.length === 0) return;
  const id = await createRun(client, account.id, {
    action: 'trash',
    label: `needless copies after run ${after.id}: ${after.label}`,
    selector: { replacements: after.id },
    fallback: null,
    askedBy: after.askedBy,
  });
  const { digest, ...asked } = await freeze(client, account, id, { ids }, 'mail', clock.now());
  await overrideGuards(client, account.id, id);
  await begin(client, vault, account.id, id, { asked, digest });
}
