import type { Amount } from '../../core/level/level';
import { trashFolder } from '../../core/mailbox/folders';
import type { Account } from '../../store/access/accounts';
import type { Vault } from '../../store/access/vault';
import { bagById, createBag, unarchivedOf } from '../../store/archive/bags';
import type { Queryable } from '../../store/database';
import { tell } from '../../store/events';
import type { StoredFolder } from '../../store/index/folders';
import { enqueue } from '../../store/jobs';
import { appendEntry } from '../../store/runs/ledger-chain';
import { bringsToTrash, giveBag, type Run, runById } from '../../store/runs/runs';

/** Why no run of an action can begin: nobody knows which folder is the trash. */
export function trashProblem(
  folders: readonly StoredFolder[],
  { settings }: Account,
  action: Run['action'],
): { kind: string; detail: string } | undefined {
  const trash = trashFolder(folders, settings.trashFolder);
  if (bringsToTrash({ action }) && !trash)
    return {
      kind: 'no-trash-folder',
      detail: 'This mailbox has no trash folder. Create one, or choose one in the settings.',
    };
  if (action !== 'restore' && trash?.roleBy === 'name' && trash.path !== settings.trashFolder)
    return {
      kind: 'roles-not-confirmed',
      detail: `The server does not say which folder is the trash. By its name it is ${trash.path}. Confirm that on the Level page first.`,
    };
  return undefined;
}

/** Writes into the ledger what a frozen run was asked, and has it carried out. */
export async function begin(
  client: Queryable,
  vault: Vault,
  account: number,
  id: number,
  { asked, digest }: { asked: Amount; digest: string },
): Promise<Run> {
  const made = (await runById(client, account, id)) as Run;
  const { action, label, selector, askedBy, createdAt } = made;
  await appendEntry(client, vault, account, {
    kind: 'asked',
    run: id,
    body: { action, label, selector, asked, askedBy, createdAt, set: digest },
  });
  await enqueue(client, account, 'run', made.id);
  await tell(client, account, 'run', made);
  await tell(client, account, 'level', {});
  return made;
}

/** Has a run write a bag of those of its messages that are not in the archive yet. */
export async function giveBagTo(client: Queryable, account: number, run: number, label: string): Promise<void> {
  const files = await unarchivedOf(client, account, run);
  if (files.length === 0) return;
  const folder = `mail-${new Date().toISOString().slice(0, 10)}`;
  const bag = await createBag(client, account, { label, form: 'mbox', place: 'here', folder, files });
  await giveBag(client, account, run, bag);
  await tell(client, account, 'bag', await bagById(client, account, bag));
}
