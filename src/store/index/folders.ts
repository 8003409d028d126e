import type { FolderRole } from '../../core/mailbox/folders';
import { type ChosenRoles, type RoleBy, roleOf } from '../../core/mailbox/roles';
import { nextVersion } from '../access/accounts';
import { type Queryable, row, rows, theRow } from '../database';

/** A folder of the index. */
export interface StoredFolder {
  id: number;
  path: string;
  serverName: string;
  delimiter: string | null;
  role: FolderRole | null;
  /** Who says so; null where it has no role. */
  roleBy: RoleBy | null;
  repeats: boolean;
  selectable: boolean;
  statusMessages: number;
  statusBytes: number | null;
}

/** A folder between two changes of its UIDVALIDITY. */
export interface Generation {
  id: number;
  folder: number;
  uidValidity: number;
  /** What STATUS said when the folder was last equal to ours; null while that was never so. */
  seenUidNext: number | null;
  seenModSeq: number | null;
  seenMessages: number | null;
}

/** What a listing of the server says of a folder. */
export interface ListedForStore {
  serverName: string;
  path: string;
  delimiter: string | null;
  role: FolderRole | null;
  proposed: FolderRole | null;
  repeats: boolean;
  selectable: boolean;
  status: { messages: number; bytes: number | null } | null;
}

const COLUMNS = `id, path, server_name as "serverName", delimiter, role, role_by as "roleBy", repeats, selectable,
  status_messages as "statusMessages", status_bytes as "statusBytes"`;

/** The folders that are there, in the order of their paths. */
export async function foldersOf(db: Queryable, account: number): Promise<StoredFolder[]> {
  return rows<StoredFolder>(
    db,
    `select ${COLUMNS} from folder where account = $1 and gone_at is null order by role = 'inbox' desc nulls last, path`,
    [account],
  );
}

export async function folderById(db: Queryable, account: number, id: number): Promise<StoredFolder | undefined> {
  return row<StoredFolder>(db, `select ${COLUMNS} from folder where account = $1 and id = $2`, [account, id]);
}

/** Makes the index agree with a listing, in a transaction of the caller's: new folders come in, figures are kept, those no longer listed become tombstones. */
export async function saveListing(db: Queryable, account: number, listed: readonly ListedForStore[]): Promise<void> {
  const column = <T>(pick: (folder: ListedForStore) => T) => listed.map(pick);
  // Ids are counted up from the highest, so one listing at a time.
  const { chosen } = await theRow<{ chosen: ChosenRoles | null }>(
    db,
    `select settings -> 'roles' as chosen from account where id = $1 for no key update`,
    [account],
  );
  const marked = new Set(listed.flatMap(({ role }) => (role ? [role] : [])));
  const roles = listed.map((folder) => roleOf(folder, chosen, marked));
  await db.query(
    `insert into folder as f (account, id, path, server_name, delimiter, role, role_by, repeats, selectable, status_messages, status_bytes)
     select $1, (select coalesce(max(id), 0) from folder where account = $1) + row_number() over (), l.*
     from unnest($2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::boolean[], $8::boolean[], $9::int[], $10::bigint[])
       as l (path, server_name, delimiter, role, role_by, repeats, selectable, messages, bytes)
     on conflict (account, server_name) where gone_at is null do update
     set path = excluded.path, delimiter = excluded.delimiter, role = excluded.role, role_by = excluded.role_by,
         repeats = excluded.repeats,
         selectable = excluded.selectable, status_messages = excluded.status_messages, status_bytes = excluded.status_bytes`,
    [
      account,
      column(({ path }) => path),
      column(({ serverName }) => serverName),
      column(({ delimiter }) => delimiter),
      roles.map((role) => role?.role ?? null),
      roles.map((role) => role?.by ?? null),
      column(({ repeats }) => repeats),
      column(({ selectable }) => selectable),
      column(({ status }) => status?.messages ?? 0),
      column(({ status }) => status?.bytes ?? null),
    ],
  );
  const gone = await rows<{ id: number }>(
    db,
    'update folder set gone_at = now() where account = $1 and gone_at is null and server_name <> all($2::text[]) returning id',
    [account, column(({ serverName }) => serverName)],
  );
  if (gone.length === 0) return;
  const closed = await rows<{ id: number }>(
    db,
    'update generation set closed_at = now() where account = $1 and closed_at is null and folder = any($2::int[]) returning id',
    [account, gone.map(({ id }) => id)],
  );
  await losePlacementsOf(db, account, closed);
}

/**
 * Gives folders the roles that a person chose, in a transaction of the caller's, but for those that the server marks; has all
 * messages judged again where that changed any.
 */
export async function chooseRoles(db: Queryable, account: number, chosen: ChosenRoles): Promise<void> {
  const before = await foldersOf(db, account);
  const marked = new Set(before.flatMap(({ role, roleBy }) => (role && roleBy === 'server' ? [role] : [])));
  let changed = false;
  for (const folder of before) {
    if (folder.roleBy === 'server') continue;
    const next = roleOf({ path: folder.path, role: null, proposed: null }, chosen, marked);
    if (next?.role !== folder.role) changed = true;
    await db.query('update folder set role = $3, role_by = $4 where account = $1 and id = $2', [
      account,
      folder.id,
      next?.role ?? null,
      next?.by ?? null,
    ]);
  }
  if (changed) await db.query('update account set unsettled = true where id = $1', [account]);
}

/** Makes tombstones of what lies in generations that were closed. */
async function losePlacementsOf(db: Queryable, account: number, closed: readonly { id: number }[]): Promise<void> {
  if (closed.length === 0) return;
  await db.query(
    `update placement set gone_at = now(), changed = $3
     where account = $1 and gone_at is null and generation = any($2::int[])`,
    [account, closed.map(({ id }) => id), await nextVersion(db, account)],
  );
}

const GENERATION = `id, folder, uid_validity as "uidValidity", seen_uid_next as "seenUidNext",
  seen_mod_seq as "seenModSeq", seen_messages as "seenMessages"`;

/** The generations that are open, by folder. */
export async function generationsOf(db: Queryable, account: number): Promise<Map<number, Generation>> {
  const open = await rows<Generation>(
    db,
    `select ${GENERATION} from generation where account = $1 and closed_at is null`,
    [account],
  );
  return new Map(open.map((generation) => [generation.folder, generation]));
}

export async function generationById(
  db: Queryable,
  account: number,
  id: number,
): Promise<Generation & { closed: boolean }> {
  return (await row<Generation & { closed: boolean }>(
    db,
    `select ${GENERATION}, closed_at is not null as closed from generation where account = $1 and id = $2`,
    [account, id],
  )) as Generation & { closed: boolean };
}

/** The open generation of a folder with this UIDVALIDITY; where another was open, it is closed and its placements go. */
export async function generationFor(
  db: Queryable,
  account: number,
  folder: number,
  uidValidity: number,
): Promise<Generation> {
  return (await generationsFor(db, account, [{ folder, uidValidity }]))[0] as Generation;
}

/** The same of several folders, in their order. */
export async function generationsFor(
  db: Queryable,
  account: number,
  wanted: readonly { folder: number; uidValidity: number }[],
): Promise<Generation[]> {
  const folders = wanted.map(({ folder }) => folder);
  const validities = wanted.map(({ uidValidity }) => uidValidity);
  const openOnes = async () => {
    const open = await rows<Generation>(
      db,
      `select ${GENERATION} from generation
       where account = $1 and closed_at is null
       and (folder, uid_validity) in (select * from unnest($2::int[], $3::bigint[]))`,
      [account, folders, validities],
    );
    return new Map(open.map((generation) => [generation.folder, generation]));
  };
  const known = await openOnes();
  if (known.size === wanted.length) return folders.map((folder) => known.get(folder) as Generation);
  // Ids are counted up from the highest, so one at a time.
  await db.query('select 1 from account where id = $1 for no key update', [account]);
  const closed = await rows<{ id: number }>(
    db,
    `update generation g set closed_at = now() from unnest($2::int[], $3::bigint[]) as wanted (folder, uid_validity)
     where g.account = $1 and g.folder = wanted.folder and g.closed_at is null and g.uid_validity <> wanted.uid_validity
     returning g.id`,
    [account, folders, validities],
  );
  await losePlacementsOf(db, account, closed);
  await db.query(
    `insert into generation (account, id, folder, uid_validity)
     select $1, (select coalesce(max(id), 0) from generation where account = $1) + row_number() over (), folder, uid_validity
     from unnest($2::int[], $3::bigint[]) as wanted (folder, uid_validity)
     where not exists (select 1 from generation g where g.account = $1 and g.folder = wanted.folder and g.closed_at is null)`,
    [account, folders, validities],
  );
  const now = await openOnes();
  return folders.map((folder) => now.get(folder) as Generation);
}

/** Whether every folder has been read once since it was there: until then answers from the index leave messages out. */
export async function isIndexComplete(db: Queryable, account: number): Promise<boolean> {
  const { complete } = await theRow<{ complete: boolean }>(
    db,
    `select exists (select 1 from folder where account = $1 and gone_at is null) and not exists (
       select 1 from folder f left join generation g on g.account = f.account and g.folder = f.id and g.closed_at is null
       where f.account = $1 and f.gone_at is null and f.selectable and not f.repeats
         and f.status_messages > 0 and g.seen_messages is null) as complete`,
    [account],
  );
  return complete;
}

/** Generations that were closed and whose messages were not looked for in a generation that may be their successor. */
export const PREDECESSORS = `from generation g join folder f on f.account = g.account and f.id = g.folder
  where g.account = $1 and g.closed_at is not null and not g.succeeded
  and (g.folder = $2 or (f.gone_at is not null and g.uid_validity = $3))
  and g.closed_at <= (select opened_at from generation where account = $1 and id = $4)`;

/** Whether messages of any closed generation were not looked for yet in the one that followed. */
export async function hasUnfollowed(db: Queryable, account: number): Promise<boolean> {
  const found = await row(
    db,
    'select 1 from generation where account = $1 and closed_at is not null and not succeeded limit 1',
    [account],
  );
  return found !== undefined;
}

/** The most messages that the folder of a generation was seen to hold under a UIDVALIDITY of before and that nobody has looked for since. */
export async function seenBefore(db: Queryable, account: number, generation: Generation): Promise<number> {
  const { messages } = await theRow<{ messages: number }>(
    db,
    `select coalesce(max(seen_messages), 0) as messages from generation
     where account = $1 and folder = $2 and closed_at is not null and not succeeded`,
    [account, generation.folder],
  );
  return messages;
}

/** Keeps what the server said when folders were found equal to ours. */
export async function saveSeen(
  db: Queryable,
  account: number,
  seen: readonly { generation: number; uidNext: number; modSeq: number | null; messages: number }[],
): Promise<void> {
  await db.query(
    `update generation g set seen_uid_next = seen.uid_next, seen_mod_seq = seen.mod_seq, seen_messages = seen.messages
     from unnest($2::int[], $3::bigint[], $4::bigint[], $5::int[]) as seen (id, uid_next, mod_seq, messages)
     where g.account = $1 and g.id = seen.id`,
    [
      account,
      seen.map(({ generation }) => generation),
      seen.map(({ uidNext }) => uidNext),
      seen.map(({ modSeq }) => modSeq),
      seen.map(({ messages }) => messages),
    ],
  );
}
