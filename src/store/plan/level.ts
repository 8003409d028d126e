import * as clock from '../../clock/clock';
import { type Amount, type Level, level } from '../../core/level/level';
import { trashFolders } from '../../core/mailbox/folders';
import type { Account } from '../access/accounts';
import { type Database, type Queryable, rows, theRow } from '../database';
import { foldersOf, generationsOf, type StoredFolder } from '../index/folders';
import { guardedNow } from '../index/guarded';
import { lastReading, type Reading, readingsOf } from '../index/readings';
import { placementsIn } from '../index/spans';
import { HELD } from './held';
import { planOf } from './lots';

/** A folder with its own figures, without subfolders. */
export interface FolderLevel extends Amount {
  path: string;
  role: StoredFolder['role'];
  roleBy: StoredFolder['roleBy'];
  repeats: boolean;
}

export interface AccountLevel extends Level {
  usedBy: 'server' | 'counted';
  limitBy: 'server' | 'user' | null;
  reading: Reading | undefined;
  readings: { at: Date; used: number }[];
  folders: FolderLevel[];
  /** Of the trash what a guard keeps: it stays when the rest is purged. */
  trashGuarded: Amount;
  /** How many folders with messages no scan has read yet: they count as STATUS says. */
  unread: number;
}

/**
 * The level of an account. A folder that was never scanned through counts as STATUS says; one that was counts as we
 * have it, which is the same once a scan is done.
 */
export async function accountLevel(db: Database, account: Account): Promise<AccountLevel> {
  const folders = await foldersOf(db, account.id);
  const trash = trashFolders(folders, account.settings.trashFolder).map(({ id }) => id);
  const trashIds = new Set(trash);
  const [generations, counted, reading, readings, plan, guarded] = await Promise.all([
    generationsOf(db, account.id),
    countedFolders(db, account.id),
    lastReading(db, account.id),
    readingsOf(db, account.id, 200),
    planAmounts(db, account, trash),
    guardedNow(db, account, clock.now()),
  ]);
  const sum = { mail: { messages: 0, bytes: 0 }, trash: { messages: 0, bytes: 0 } };
  let unread = 0;
  const figures = folders.map((folder): FolderLevel => {
    const ours = counted.get(folder.id) ?? { messages: 0, bytes: 0 };
    const scanned = generations.get(folder.id)?.seenMessages != null;
    const amount =
      folder.repeats || !scanned ? { messages: folder.statusMessages, bytes: folder.statusBytes ?? ours.bytes } : ours;
    if (!folder.repeats) {
      const part = trashIds.has(folder.id) ? sum.trash : sum.mail;
      part.messages += amount.messages;
      part.bytes += amount.bytes;
      if (!scanned && folder.statusMessages > 0) unread++;
    }
    return { path: folder.path, role: folder.role, roleBy: folder.roleBy, repeats: folder.repeats, ...amount };
  });
  const serverUsed = reading?.used ?? null;
  const serverLimit = reading?.limit ?? null;
  const limit = serverLimit ?? account.settings.limit;
  return {
    ...level({
      used: serverUsed ?? sum.mail.bytes + sum.trash.bytes,
      limit,
      ...sum,
      plan: plan.plan,
      planAndTrash: {
        // What a guard keeps stays when the trash is purged.
        messages: sum.trash.messages - guarded.inTrash.messages + plan.outsideTrash.messages,
        bytes: sum.trash.bytes - guarded.inTrash.bytes + plan.outsideTrash.bytes,
      },
    }),
    usedBy: serverUsed === null ? 'counted' : 'server',
    limitBy: serverLimit !== null ? 'server' : limit !== null ? 'user' : null,
    reading,
    readings,
    folders: figures,
    trashGuarded: guarded.inTrash,
    unread,
  };
}

async function countedFolders(db: Queryable, account: number): Promise<Map<number, Amount>> {
  const found = await rows<Amount & { folder: number }>(
    db,
    'select folder, count(*)::int as messages, sum(size)::bigint as bytes from placement where account = $1 and gone_at is null group by folder',
    [account],
  );
  return new Map(found.map(({ folder, messages, bytes }) => [folder, { messages, bytes }]));
}

/** The union of all lots, and what of it goes that does not lie in the trash already: messages that lose files stay. */
async function planAmounts(
  db: Queryable,
  account: Account,
  trash: readonly number[],
): Promise<{ plan: Amount; outsideTrash: Amount }> {
  const deleted = await theRow<{
    messages: number;
    bytes: number;
    outside: number;
    outsideBytes: number;
    files: boolean;
  }>(
    db,
    `with members as materialized (
       select range_agg(${HELD}) as members from lot where account = $1 and run is null and files is null)
     select count(*)::int as messages, coalesce(sum(p.size), 0)::bigint as bytes,
            count(*) filter (where p.folder <> all($2))::int as outside,
            coalesce(sum(p.size) filter (where p.folder <> all($2)), 0)::bigint as "outsideBytes",
            exists (select from lot where account = $1 and run is null and files is not null) as files
     from members cross join ${placementsIn('members.members')} where p.gone_at is null`,
    [account.id, trash],
  );
  const { messages, bytes } = deleted;
  const plan = deleted.files ? (await planOf(db, account.id)).total : { messages, bytes };
  return {
    plan,
    outsideTrash: { messages: deleted.outside, bytes: deleted.outsideBytes + plan.bytes - bytes },
  };
}
