import { nextNumber } from '../access/accounts';
import type { Vault } from '../access/vault';
import { type Queryable, row, rows, theRow } from '../database';
import { updateRow } from '../update';

/** A folder on a WebDAV server, with all below it, that belongs to an account. */
export interface FileSpace {
  id: number;
  /** `https://files.example:8443` */
  origin: string;
  /** The path of its uppermost folder, as core/space/path.ts spells it. */
  root: string;
  /** Who signs in; null: as to the mailbox. */
  user: string | null;
  state: 'active' | 'locked';
  /** Whether it counts against the limit of the mailbox, as a person said. */
  sharesQuota: boolean | null;
  /** What the server says, in octets (RFC 4331), and when it said so. */
  quotaUsed: number | null;
  quotaAvailable: number | null;
  askedAt: Date | null;
  syncToken: string | null;
  /** The path of its trash, once a run has brought something there. */
  trash: string | null;
  listing: number;
  listingState: 'queued' | 'running' | 'done' | 'failed';
  attempts: number;
  problem: { kind: string; detail: string } | null;
  listedAt: Date | null;
  /** Files that count, without those that others share. */
  own: FileAmount;
  /** Of these, pictures. */
  pictures: FileAmount;
  shared: FileAmount;
  /** Of one's own, what lies in its trash. */
  inTrash: PicturedAmount;
  /** Folders, and how many of them the listing has not read yet. */
  folders: { total: number; left: number };
}

/** Files, and what of their octets is pictures. */
export interface PicturedAmount extends FileAmount {
  pictureBytes: number;
}

/** How many files, and their octets. */
export interface FileAmount {
  files: number;
  bytes: number;
}

const COLUMNS = `id, origin, root, user_name as "user", state, shares_quota as "sharesQuota", quota_used as "quotaUsed",
  quota_available as "quotaAvailable", asked_at as "askedAt", sync_token as "syncToken", trash, listing, listing_state as "listingState",
  attempts, problem, listed_at as "listedAt", json_build_object('files', files, 'bytes', bytes) as own,
  json_build_object('files', pictures, 'bytes', picture_bytes) as pictures,
  json_build_object('files', shared_files, 'bytes', shared_bytes) as shared,
  json_build_object('files', trash_files, 'bytes', trash_bytes, 'pictureBytes', trash_picture_bytes) as "inTrash",
  json_build_object('total', folders, 'left', folders_left) as folders`;

/** File spaces of one account. */
export const MOST_SPACES = 16;

export async function spacesOf(db: Queryable, account: number): Promise<FileSpace[]> {
  return rows<FileSpace>(db, `select ${COLUMNS} from space where account = $1 order by id`, [account]);
}

export async function spaceById(db: Queryable, account: number, id: number): Promise<FileSpace | undefined> {
  return row<FileSpace>(db, `select ${COLUMNS} from space where account = $1 and id = $2`, [account, id]);
}

/** Adds a file space, or gives the one that is there. @param own who signs in, where that is not as to the mailbox. */
export async function addSpace(
  db: Queryable,
  vault: Vault,
  account: number,
  place: { origin: string; root: string },
  own: { user: string; password: string } | undefined,
): Promise<FileSpace> {
  await db.query('select 1 from account where id = $1 for no key update', [account]);
  const there = await row<{ id: number }>(db, 'select id from space where account = $1 and origin = $2 and root = $3', [
    account,
    place.origin,
    place.root,
  ]);
  const id = there?.id ?? (await nextNumber(db, account, 'space'));
  if (!there)
    await db.query('insert into space (account, id, origin, root) values ($1, $2, $3, $4)', [
      ...[account, id, place.origin, place.root],
    ]);
  await saveSpaceSecret(db, vault, account, id, own);
  return theRow<FileSpace>(db, `select ${COLUMNS} from space where account = $1 and id = $2`, [account, id]);
}

/** Keeps who signs in to a file space, and opens it where it was locked. */
export async function saveSpaceSecret(
  db: Queryable,
  vault: Vault,
  account: number,
  id: number,
  own: { user: string; password: string } | undefined,
): Promise<void> {
  const sealed = own && vault.seal(await ownerOf(db, account, id, own.user), own.password);
  await db.query(`update space set user_name = $3, sealed = $4, state = 'active' where account = $1 and id = $2`, [
    account,
    id,
    own?.user ?? null,
    sealed ?? null,
  ]);
}

/** Who signs in to a file space; undefined where that is as to the mailbox. @throws SecretLost where it does not open. */
export async function spaceSecret(
  db: Queryable,
  vault: Vault,
  account: number,
  id: number,
): Promise<{ user: string; password: string } | undefined> {
  const kept = await theRow<{ user: string | null; sealed: Buffer | null }>(
    db,
    'select user_name as "user", sealed from space where account = $1 and id = $2',
    [account, id],
  );
  if (kept.user === null || kept.sealed === null) return undefined;
  const password = vault.unseal(await ownerOf(db, account, id, kept.user), kept.sealed);
  if (password === undefined) throw new SecretLost();
  return { user: kept.user, password };
}

/** A kept password does not open with the key that there is. */
export class SecretLost extends Error {}

/** For what a password is sealed: in another place it does not open. */
async function ownerOf(db: Queryable, account: number, id: number, user: string): Promise<string> {
  const { origin, root } = await theRow<{ origin: string; root: string }>(
    db,
    'select origin, root from space where account = $1 and id = $2',
    [account, id],
  );
  return `space ${JSON.stringify([account, id, origin, root, user])}`;
}

/** Columns that are written by what is said here. */
const CHANGED = {
  state: 'state',
  sharesQuota: 'shares_quota',
  quotaUsed: 'quota_used',
  quotaAvailable: 'quota_available',
  askedAt: 'asked_at',
  syncToken: 'sync_token',
  trash: 'trash',
  listingState: 'listing_state',
  attempts: 'attempts',
  problem: 'problem',
  listedAt: 'listed_at',
} as const;

export async function updateSpace(
  db: Queryable,
  account: number,
  id: number,
  change: { [Key in keyof typeof CHANGED]?: FileSpace[Key] | undefined },
): Promise<void> {
  await updateRow(db, 'space', CHANGED, change, 'account = $1 and id = $2', [account, id]);
}

/** Begins a listing where none is under way. @returns whether one was begun. */
export async function beginListing(db: Queryable, account: number, id: number): Promise<boolean> {
  const begun = await db.query(
    `update space set listing_state = 'queued', attempts = 0, problem = null
     where account = $1 and id = $2 and listing_state in ('done', 'failed')`,
    [account, id],
  );
  return begun.rowCount === 1;
}

/** Whether a run in a file space, or an upload to it, is not over: it would lose what it works on. */
export async function hasOpenWork(db: Queryable, account: number, id: number): Promise<boolean> {
  const found = await row(
    db,
    `select 1 from run where account = $1 and space = $2 and state in ('queued', 'running', 'paused', 'failed')
     union all
     select 1 from space_upload where account = $1 and space = $2 and state in ('queued', 'running', 'paused', 'failed') limit 1`,
    [account, id],
  );
  return found !== undefined;
}

/** Whether what lies at a path, or in one of the folders above it, is what others share, as far as is known. */
export async function isOfOthers(db: Queryable, account: number, id: number, path: string): Promise<boolean> {
  const found = await row(
    db,
    'select 1 from space_folder where account = $1 and space = $2 and shared and starts_with($3::text, path) limit 1',
    [account, id, path],
  );
  return found !== undefined;
}

/** Forgets a file space, with its password and all that is known of it. Nothing on its server changes. */
export async function forgetSpace(db: Queryable, account: number, id: number): Promise<void> {
  await db.query(`delete from job where account = $1 and kind = 'list-space' and subject = $2`, [account, id]);
  await db.query('delete from lot where account = $1 and space = $2 and run is null', [account, id]);
  for (const table of ['space_file', 'space_folder'])
    await db.query(`delete from ${table} where account = $1 and space = $2`, [account, id]);
  await db.query('delete from space where account = $1 and id = $2', [account, id]);
}
