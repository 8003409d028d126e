import { createHash } from 'node:crypto';
import { fileKind, kindNumber } from '../../core/files/kinds';
import { printMultirange, rangesOf } from '../../core/sets/ranges';
import { collectionOf, nameOf } from '../../core/space/path';
import { fold } from '../../core/text';
import { type Queryable, row, rows, theRow } from '../database';

/** A folder whose members are to be read. */
export interface FolderToList {
  id: number;
  path: string;
  depth: number;
  shared: boolean;
}

/** What lies in a folder, as its server tells it. */
export interface Member {
  /** As core/space/path.ts spells it; of a folder with a slash at its end. */
  path: string;
  isCollection: boolean;
  bytes: number;
  type: string;
  etag: string | null;
  modified: Date | null;
  shared: boolean;
}

/** Begins the next listing of a file space, with its uppermost folder. @returns its number. */
export async function startListing(db: Queryable, account: number, space: number): Promise<number> {
  const { listing, root } = await theRow<{ listing: number; root: string }>(
    db,
    `update space set listing = listing + 1, listing_state = 'running' where account = $1 and id = $2 returning listing, root`,
    [account, space],
  );
  await noteFolders(db, account, space, listing, null, [{ path: root, shared: false }]);
  return listing;
}

/** Folders that a listing has not read yet, the newest first, so that few wait at a time. @param but ids that are being read. */
export async function foldersToList(
  db: Queryable,
  account: number,
  space: number,
  listing: number,
  most: number,
  but: readonly number[],
): Promise<FolderToList[]> {
  return rows<FolderToList>(
    db,
    `select id, path, depth, shared from space_folder
     where account = $1 and space = $2 and seen = $3 and listed < seen and id <> all($5::bigint[]) order by id desc limit $4`,
    [account, space, listing, most, but],
  );
}

/**
 * Writes down members of a folder. A file that is as it was stays the row that it is; one that changed gets a new one.
 *
 * @param members each once.
 * @returns the ids of the files among them.
 */
export async function noteMembers(
  db: Queryable,
  account: number,
  space: number,
  listing: number,
  folder: FolderToList,
  members: readonly Member[],
): Promise<number[]> {
  const folders = members.filter(({ isCollection }) => isCollection);
  if (folders.length > 0) await noteFolders(db, account, space, listing, folder, folders);
  return noteFiles(
    db,
    account,
    space,
    folder.id,
    members.filter(({ isCollection }) => !isCollection),
  );
}

/**
 * Writes down what changed anywhere in a file space.
 *
 * @returns false where one lies in a folder that is not known: everything has to be listed then.
 */
export async function noteChanged(
  db: Queryable,
  account: number,
  space: number,
  listing: number,
  members: readonly Member[],
): Promise<boolean> {
  const byFolder = new Map<string, Member[]>();
  for (const member of members) {
    const path = collectionOf(member.path) ?? '';
    const inside = byFolder.get(path);
    if (inside) inside.push(member);
    else byFolder.set(path, [member]);
  }
  // Folders before what lies in them.
  for (const [path, inside] of [...byFolder].sort(([a], [b]) => a.length - b.length)) {
    const folder = await row<FolderToList>(
      db,
      'select id, path, depth, shared from space_folder where account = $1 and space = $2 and path_hash = $3',
      [account, space, hashOf(path)],
    );
    if (!folder) return false;
    await noteMembers(
      db,
      ...([account, space, listing] as const),
      folder,
      inside.map((member) => ({ ...member, shared: member.shared || folder.shared })),
    );
  }
  return true;
}

async function noteFolders(
  db: Queryable,
  account: number,
  space: number,
  listing: number,
  parent: FolderToList | null,
  folders: readonly Pick<Member, 'path' | 'shared'>[],
): Promise<void> {
  const first = await takeEntries(db, account, folders.length);
  await db.query(
    `insert into space_folder (account, id, space, path, path_hash, parent, depth, shared, seen)
     select $1, f.id, $2, f.path, f.path_hash, $4, $5, f.shared, $3
     from unnest($6::bigint[], $7::text[], $8::bytea[], $9::boolean[]) as f (id, path, path_hash, shared)
     on conflict (account, space, path_hash) do update set seen = excluded.seen, shared = excluded.shared`,
    [
      ...[account, space, listing, parent?.id ?? null, parent ? parent.depth + 1 : 0],
      folders.map((_, index) => first + index),
      folders.map(({ path }) => path),
      folders.map(({ path }) => hashOf(path)),
      folders.map(({ shared }) => shared),
    ],
  );
}

/** A file in the table, as far as it says whether it is still the same. */
interface Known {
  id: number;
  path_hash: Buffer;
  bytes: number;
  etag: string | null;
  modified: Date | null;
  shared: boolean;
}

async function noteFiles(
  db: Queryable,
  account: number,
  space: number,
  folder: number,
  files: readonly Member[],
): Promise<number[]> {
  if (files.length === 0) return [];
  const hashes = files.map(({ path }) => hashOf(path));
  const known = new Map(
    (
      await rows<Known>(
        db,
        `select f.id, f.path_hash, f.bytes, f.etag, f.modified, f.shared from unnest($3::bytea[]) as given (path_hash)
         cross join lateral (select * from space_file where account = $1 and space = $2 and path_hash = given.path_hash
           and gone_at is null offset 0) f`,
        [account, space, hashes],
      )
    ).map((file) => [file.path_hash.toString('hex'), file]),
  );
  const ids: number[] = [];
  const changed: number[] = [];
  const fresh: Member[] = [];
  for (const [index, file] of files.entries()) {
    const before = known.get((hashes[index] as Buffer).toString('hex'));
    if (before && isSame(before, file)) ids.push(before.id);
    else {
      fresh.push(file);
      if (before) changed.push(before.id);
    }
  }
  if (changed.length > 0)
    await db.query('update space_file set gone_at = now() where account = $1 and id = any($2::bigint[])', [
      account,
      changed,
    ]);
  if (fresh.length > 0) ids.push(...(await insertFiles(db, account, space, folder, fresh)));
  return ids;
}

async function insertFiles(
  db: Queryable,
  account: number,
  space: number,
  folder: number,
  files: readonly Member[],
): Promise<number[]> {
  const first = await takeEntries(db, account, files.length);
  const ids = files.map((_, index) => first + index);
  const names = files.map(({ path }) => nameOf(path));
  await db.query(
    `insert into space_file (account, space, folder, id, path, path_hash, name, name_folded, type, kind, bytes, etag, modified, shared)
     select $1, $2, $3, f.* from unnest($4::bigint[], $5::text[], $6::bytea[], $7::text[], $8::text[], $9::text[], $10::smallint[],
       $11::bigint[], $12::text[], $13::timestamptz[], $14::boolean[]) f`,
    [
      ...[account, space, folder, ids],
      files.map(({ path }) => path),
      files.map(({ path }) => hashOf(path)),
      names,
      names.map((name) => fold(name)),
      files.map(({ type }) => type),
      files.map(({ type }, index) => kindNumber(fileKind(type, names[index] as string))),
      files.map(({ bytes }) => bytes),
      files.map(({ etag }) => etag),
      files.map(({ modified }) => modified),
      files.map(({ shared }) => shared),
    ],
  );
  return ids;
}

/**
 * Whether a file is as it was. Its tag must be the same by the weak comparison (RFC 9110 §8.8.3.2), since a server may call a tag weak
 * while the file is new. A tag alone is not believed: some stay the same when the file changes.
 */
function isSame(before: Known, now: Member): boolean {
  return (
    before.bytes === now.bytes &&
    before.shared === now.shared &&
    before.modified?.getTime() === now.modified?.getTime() &&
    opaque(before.etag) === opaque(now.etag)
  );
}

function opaque(etag: string | null): string | null {
  return etag === null ? null : etag.replace(/^W\//, '');
}

/** Notes that the members of a folder were read to their end: what was not among them is gone, with all that lay below it. */
export async function closeFolder(
  db: Queryable,
  account: number,
  listing: number,
  folder: number,
  files: readonly number[],
): Promise<void> {
  await db.query(
    `update space_file set gone_at = now()
     where account = $1 and folder = $2 and gone_at is null and not $3::int8multirange @> id`,
    [account, folder, printMultirange(rangesOf(files))],
  );
  await removeFolders(db, account, 'parent = $2 and seen < $3', [folder, listing]);
  await db.query('update space_folder set listed = $3 where account = $1 and id = $2', [account, folder, listing]);
}

/** Removes what the server says is gone, by its paths; of a folder also what lay below it. */
export async function removePaths(
  db: Queryable,
  account: number,
  space: number,
  paths: readonly string[],
): Promise<void> {
  const hashes = paths.map(hashOf);
  await db.query(
    `update space_file set gone_at = now() where account = $1 and space = $2 and path_hash = any($3::bytea[]) and gone_at is null`,
    [account, space, hashes],
  );
  await removeFolders(db, account, 'space = $2 and path_hash = any($3::bytea[])', [space, hashes]);
}

async function removeFolders(db: Queryable, account: number, which: string, values: unknown[]): Promise<void> {
  await db.query(
    `with recursive gone as (
       select id from space_folder where account = $1 and ${which}
       union all
       select f.id from gone cross join lateral (
         select id from space_folder where account = $1 and parent = gone.id offset 0) f),
     files as (
       update space_file set gone_at = now() where account = $1 and folder in (select id from gone) and gone_at is null)
     delete from space_folder where account = $1 and id in (select id from gone)`,
    [account, ...values],
  );
}

/** Sums up what is known of a file space. */
export async function noteFigures(db: Queryable, account: number, space: number): Promise<void> {
  await db.query(
    `update space s set files = f.files, bytes = f.bytes, pictures = f.pictures, picture_bytes = f.picture_bytes,
       shared_files = f.shared_files, shared_bytes = f.shared_bytes, folders = o.folders, folders_left = o.folders_left
     from (
       select count(*) filter (where not shared)::int as files, coalesce(sum(bytes) filter (where not shared), 0)::bigint as bytes,
         count(*) filter (where not shared and kind = $3)::int as pictures,
         coalesce(sum(bytes) filter (where not shared and kind = $3), 0)::bigint as picture_bytes,
         count(*) filter (where shared)::int as shared_files,
         coalesce(sum(bytes) filter (where shared), 0)::bigint as shared_bytes
       from space_file where account = $1 and space = $2 and gone_at is null) f,
     (select count(*)::int as folders, count(*) filter (where listed < seen)::int as folders_left
       from space_folder where account = $1 and space = $2) o
     where s.account = $1 and s.id = $2`,
    [account, space, kindNumber('picture')],
  );
}

/** Takes numbers for files and folders. @returns the first. */
async function takeEntries(db: Queryable, account: number, count: number): Promise<number> {
  const { first } = await theRow<{ first: number }>(
    db,
    'update account set next_file = next_file + $2 where id = $1 returning next_file - $2 as first',
    [account, count],
  );
  return first;
}

function hashOf(path: string): Buffer {
  return createHash('sha256').update(path).digest();
}
