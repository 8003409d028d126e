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
  /** The listing in which its members were last read to their end; 0: none. */
  listed: number;
  /** Of its files as they are in the table (FilesDigest); null where nobody knows. */
  digest: Buffer | null;
}

/** Members of a folder: all of them, or some of many. Each is in it once. */
export interface Part {
  folder: FolderToList;
  members: readonly Member[];
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
  await noteFolders(db, account, space, listing, [{ path: root, shared: false, parent: null, depth: 0 }]);
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
    `select id, path, depth, shared, listed, digest from space_folder
     where account = $1 and space = $2 and seen = $3 and listed < seen and id <> all($5::bigint[]) order by id desc limit $4`,
    [account, space, listing, most, but],
  );
}

/**
 * Writes down members of folders. A file that is as it was stays the row that it is; one that changed gets a new one.
 *
 * @returns of each part the ids of its files.
 */
export async function noteMembers(
  db: Queryable,
  account: number,
  space: number,
  listing: number,
  parts: readonly Part[],
): Promise<number[][]> {
  // A server may tell of a folder more than once.
  const folders = new Map<string, NewFolder>();
  const files = parts.map(({ folder, members }) => {
    const inside: FileIn[] = [];
    for (const member of members) {
      const { path, shared } = member;
      if (member.isCollection) folders.set(path, { path, shared, parent: folder.id, depth: folder.depth + 1 });
      else inside.push({ ...member, folder: folder.id, isNew: folder.listed === 0, hash: hashOf(path) });
    }
    return inside;
  });
  if (folders.size > 0) await noteFolders(db, account, space, listing, [...folders.values()]);
  const ids = await noteFiles(db, account, space, files.flat());
  return files.map((inside) => inside.flatMap((file) => ids.get(file) ?? []));
}

/**
 * Writes down what changed anywhere in a file space.
 *
 * @returns false where that does not tell all: one lies in a folder that is not known, or a folder that is known is told of. It may have
 *   gone and come back, and not every server says what went with it. Everything has to be listed then.
 */
export async function noteChanged(
  db: Queryable,
  account: number,
  space: number,
  listing: number,
  members: readonly Member[],
): Promise<boolean> {
  const known = await row(
    db,
    'select 1 from space_folder where account = $1 and space = $2 and path_hash = any($3::bytea[]) limit 1',
    [account, space, members.flatMap(({ path, isCollection }) => (isCollection ? [hashOf(path)] : []))],
  );
  if (known) return false;
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
      'select id, path, depth, shared, listed, digest from space_folder where account = $1 and space = $2 and path_hash = $3',
      [account, space, hashOf(path)],
    );
    if (!folder) return false;
    const members = inside.map((member) => ({ ...member, shared: member.shared || folder.shared }));
    await forgetDigests(db, account, [folder.id]);
    await noteMembers(db, account, space, listing, [{ folder, members }]);
  }
  return true;
}

/** A folder as it is told of. */
interface NewFolder {
  path: string;
  shared: boolean;
  /** Null of the uppermost. */
  parent: number | null;
  depth: number;
}

async function noteFolders(
  db: Queryable,
  account: number,
  space: number,
  listing: number,
  folders: readonly NewFolder[],
): Promise<void> {
  const first = await takeNumbers(db, account, folders.length);
  await db.query(
    `insert into space_folder (account, space, seen, id, path, path_hash, parent, depth, shared)
     select $1, $2, $3, f.* from unnest($4::bigint[], $5::text[], $6::bytea[], $7::bigint[], $8::int[], $9::boolean[]) f
     on conflict (account, space, path_hash) do update set seen = excluded.seen, shared = excluded.shared`,
    [
      ...[account, space, listing],
      folders.map((_, index) => first + index),
      folders.map(({ path }) => path),
      folders.map(({ path }) => hashOf(path)),
      folders.map(({ parent }) => parent),
      folders.map(({ depth }) => depth),
      folders.map(({ shared }) => shared),
    ],
  );
}

/**
 * Knows a folder that was made, or found, when a file was to be put into it, and those above it.
 *
 * @param isMade whether nothing can lie in it yet. What else lies in the others is read by the next listing.
 * @returns its id.
 */
export async function noteFolder(
  db: Queryable,
  account: number,
  space: number,
  path: string,
  isMade: boolean,
): Promise<number> {
  const known = await row<{ id: number }>(
    db,
    'select id from space_folder where account = $1 and space = $2 and path_hash = $3',
    [account, space, hashOf(path)],
  );
  if (known) return known.id;
  const above = collectionOf(path);
  if (above === undefined) throw new Error('The uppermost folder of a file space is not known.');
  await noteFolder(db, account, space, above, false);
  const id = await takeNumbers(db, account, 1);
  await db.query(
    `insert into space_folder (account, id, space, path, path_hash, parent, depth, shared, seen, listed)
     select $1, $2, $3, $4, $5, f.id, f.depth + 1, f.shared, s.listing, case when $7 then s.listing else 0 end
     from space s, space_folder f
     where s.account = $1 and s.id = $3 and f.account = $1 and f.space = $3 and f.path_hash = $6`,
    [account, id, space, path, hashOf(path), hashOf(above), isMade],
  );
  return id;
}

/**
 * Knows a file that was put into a folder that is known, and what it holds.
 *
 * @param madeBy the run that put it in the place of an original; null of all others.
 * @returns its id.
 */
export async function noteUploaded(
  db: Queryable,
  account: number,
  space: { id: number; listing: number },
  member: Omit<Member, 'shared'>,
  sha256: Buffer,
  madeBy: number | null = null,
): Promise<number> {
  const folder = await theRow<FolderToList>(
    db,
    'select id, path, depth, shared, listed, digest from space_folder where account = $1 and space = $2 and path_hash = $3',
    [account, space.id, hashOf(collectionOf(member.path) ?? '')],
  );
  const members = [{ ...member, shared: folder.shared }];
  const [ids = []] = await noteMembers(db, account, space.id, space.listing, [{ folder, members }]);
  const id = ids[0] as number;
  await db.query('update space_file set read = true, sha256 = $3, made_by = $4 where account = $1 and id = $2', [
    ...[account, id, sha256, madeBy],
  ]);
  await forgetDigests(db, account, [folder.id]);
  return id;
}

/** Notes that files lie elsewhere, in the same state of them but for what their server says of it. */
export async function noteMoved(
  db: Queryable,
  account: number,
  space: number,
  files: readonly MovedFile[],
): Promise<void> {
  const hashes = files.map(({ path }) => hashOf(path));
  const ids = files.map(({ id }) => id);
  const folders = await rows<{ folder: number }>(
    db,
    'select distinct folder from space_file where account = $1 and id = any($2::bigint[])',
    [account, ids],
  );
  // What the table has at these paths is not there: the server puts nothing over another file.
  await db.query(
    `update space_file set gone_at = now() where account = $1 and space = $2 and path_hash = any($3::bytea[]) and gone_at is null
       and id <> all($4::bigint[])`,
    [account, space, hashes, ids],
  );
  await db.query(
    `update space_file f set path = m.path, path_hash = m.path_hash, folder = m.folder, etag = m.etag, modified = m.modified,
       trashed_by = m.trashed_by, origin = m.origin
     from unnest($2::bigint[], $3::text[], $4::bytea[], $5::bigint[], $6::text[], $7::timestamptz[], $8::int[], $9::text[])
       as m (id, path, path_hash, folder, etag, modified, trashed_by, origin)
     where f.account = $1 and f.id = m.id`,
    [
      ...[account, ids],
      files.map(({ path }) => path),
      hashes,
      files.map(({ folder }) => folder),
      files.map(({ etag }) => etag),
      files.map(({ modified }) => modified),
      files.map(({ trashedBy }) => trashedBy),
      files.map(({ origin }) => origin),
    ],
  );
  await forgetDigests(db, account, [...folders.map(({ folder }) => folder), ...files.map(({ folder }) => folder)]);
}

/** A file that was moved: where it lies now, and what its server says of it there. */
export interface MovedFile {
  id: number;
  path: string;
  folder: number;
  etag: string | null;
  modified: Date | null;
  /** The run that brought it to the trash, and where it lay before; both null outside the trash. */
  trashedBy: number | null;
  origin: string | null;
}

/** Notes that files are gone. */
export async function noteGone(db: Queryable, account: number, ids: readonly number[]): Promise<void> {
  const folders = await rows<{ folder: number }>(
    db,
    'update space_file set gone_at = now() where account = $1 and id = any($2::bigint[]) and gone_at is null returning folder',
    [account, ids],
  );
  await forgetDigests(
    db,
    account,
    folders.map(({ folder }) => folder),
  );
}

/** A file, and the folder in which it was found. */
interface FileIn extends Member {
  folder: number;
  /** Whether nothing is known of that folder: nearly all that lies in it is new. */
  isNew: boolean;
  hash: Buffer;
}

/** @returns the ids of the files; one that was told more than once may have it once. */
async function noteFiles(
  db: Queryable,
  account: number,
  space: number,
  files: readonly FileIn[],
): Promise<Map<FileIn, number>> {
  const ids = new Map<FileIn, number>();
  await insertFiles(
    db,
    account,
    space,
    files.filter(({ isNew }) => isNew),
    ids,
  );
  // What a listing wrote before it was killed, or knew before.
  const others = files.filter((file) => !ids.has(file));
  const known = await knownFiles(db, account, space, others);
  const changed: number[] = [];
  const fresh: FileIn[] = [];
  for (const [index, file] of others.entries()) {
    const before = known.get(index + 1);
    if (before?.same) ids.set(file, before.id);
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
  await insertFiles(db, account, space, fresh, ids);
  return ids;
}

/** A file in the table that has the path of one that was told of. */
interface Known {
  /** Among those that were told of, from 1. */
  place: number;
  id: number;
  /** Whether it is as it was. */
  same: boolean;
}

/**
 * What is known of files, by their place. One is as it was if size, time and tag are the same: a tag by the weak comparison (RFC 9110
 * §8.8.3.2), since a server may call it weak while the file is new; and not by its tag alone, since some stay the same when the file
 * changes.
 */
async function knownFiles(
  db: Queryable,
  account: number,
  space: number,
  files: readonly FileIn[],
): Promise<Map<number, Known>> {
  if (files.length === 0) return new Map();
  const found = await rows<Known>(
    db,
    `select given.place::int as place, f.id, f.bytes = given.bytes and f.shared = given.shared
       and f.modified is not distinct from given.modified
       and ltrim(f.etag, 'W/') is not distinct from ltrim(given.etag, 'W/') as same
     from unnest($3::bytea[], $4::bigint[], $5::text[], $6::timestamptz[], $7::boolean[]) with ordinality
       as given (path_hash, bytes, etag, modified, shared, place)
     cross join lateral (select * from space_file where account = $1 and space = $2 and path_hash = given.path_hash
       and gone_at is null offset 0) f`,
    [
      ...[account, space],
      files.map(({ hash }) => hash),
      files.map(({ bytes }) => bytes),
      files.map(({ etag }) => etag),
      files.map(({ modified }) => modified),
      files.map(({ shared }) => shared),
    ],
  );
  return new Map(found.map((file) => [file.place, file]));
}

/** Writes files of which nothing is known, and notes their ids; one that is there after all stays as it is, and gets none. */
async function insertFiles(
  db: Queryable,
  account: number,
  space: number,
  files: readonly FileIn[],
  ids: Map<FileIn, number>,
): Promise<void> {
  if (files.length === 0) return;
  const first = await takeNumbers(db, account, files.length);
  const names = files.map(({ path }) => nameOf(path));
  const written = await rows<{ id: number }>(
    db,
    `insert into space_file (account, space, id, folder, path, path_hash, name, name_folded, type, kind, bytes, etag, modified, shared)
     select $1, $2, f.* from unnest($3::bigint[], $4::bigint[], $5::text[], $6::bytea[], $7::text[], $8::text[], $9::text[],
       $10::smallint[], $11::bigint[], $12::text[], $13::timestamptz[], $14::boolean[]) f
     on conflict (account, space, path_hash) where gone_at is null do nothing returning id`,
    [
      ...[account, space],
      files.map((_, index) => first + index),
      files.map(({ folder }) => folder),
      files.map(({ path }) => path),
      files.map(({ hash }) => hash),
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
  for (const { id } of written) ids.set(files[id - first] as FileIn, id);
}

/** A folder whose members were read to their end. */
export interface WholeFolder {
  id: number;
  /** Of its files as they were read. */
  digest: Buffer;
}

/**
 * Notes that the members of folders were read to their end: what was not among them is gone, with all that lay below it.
 *
 * @param unchanged folders whose files are as they were.
 * @param files ids of those in the other folders.
 */
export async function closeFolders(
  db: Queryable,
  account: number,
  listing: number,
  changed: readonly WholeFolder[],
  unchanged: readonly WholeFolder[],
  files: Iterable<number>,
): Promise<void> {
  const whole = [...changed, ...unchanged];
  if (changed.length > 0)
    await db.query(
      `update space_file set gone_at = now() from unnest($2::bigint[]) as closed (folder) cross join lateral (
       select id from space_file where account = $1 and folder = closed.folder and gone_at is null
         and not $3::int8multirange @> id offset 0) f
     where space_file.account = $1 and space_file.id = f.id`,
      [account, changed.map(({ id }) => id), printMultirange(rangesOf(files))],
    );
  await removeFolders(db, account, 'parent = any($2::bigint[]) and seen < $3', [whole.map(({ id }) => id), listing]);
  await db.query(
    `update space_folder f set listed = $2, digest = read.digest from unnest($3::bigint[], $4::bytea[]) as read (id, digest)
     where f.account = $1 and f.id = read.id`,
    [account, listing, whole.map(({ id }) => id), whole.map(({ digest }) => digest)],
  );
}

/** Notes that what the table has of the files of folders is no longer what was last read of them. */
export async function forgetDigests(db: Queryable, account: number, folders: readonly number[]): Promise<void> {
  await db.query(
    'update space_folder set digest = null where account = $1 and id = any($2::bigint[]) and digest is not null',
    [account, folders],
  );
}

/** Files of a folder as one number, whatever their order: the sum of what each says of itself. */
export class FilesDigest {
  private readonly sum = new Uint32Array(8);

  add({ path, bytes, etag, modified, type, shared }: Member): void {
    const said = JSON.stringify([path, bytes, etag, modified?.getTime() ?? null, type, shared]);
    const hash = createHash('sha256').update(said).digest();
    for (let at = 0; at < 8; at++) this.sum[at] = (this.sum[at] as number) + hash.readUInt32LE(at * 4);
  }

  get value(): Buffer {
    return Buffer.from(this.sum.slice().buffer);
  }
}

/** Removes what the server says is gone, by its paths; of a folder also what lay below it. */
export async function removePaths(
  db: Queryable,
  account: number,
  space: number,
  paths: readonly string[],
): Promise<void> {
  const hashes = paths.map(hashOf);
  const folders = await rows<{ folder: number }>(
    db,
    `update space_file set gone_at = now() where account = $1 and space = $2 and path_hash = any($3::bytea[]) and gone_at is null
     returning folder`,
    [account, space, hashes],
  );
  await forgetDigests(
    db,
    account,
    folders.map(({ folder }) => folder),
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
       shared_files = f.shared_files, shared_bytes = f.shared_bytes, folders = o.folders, folders_left = o.folders_left,
       trash_files = f.trash_files, trash_bytes = f.trash_bytes, trash_picture_bytes = f.trash_picture_bytes
     from (
       select count(*) filter (where not shared)::int as files, coalesce(sum(bytes) filter (where not shared), 0)::bigint as bytes,
         count(*) filter (where not shared and kind = $3)::int as pictures,
         coalesce(sum(bytes) filter (where not shared and kind = $3), 0)::bigint as picture_bytes,
         count(*) filter (where shared)::int as shared_files,
         coalesce(sum(bytes) filter (where shared), 0)::bigint as shared_bytes,
         count(*) filter (where not shared and starts_with(path, trash))::int as trash_files,
         coalesce(sum(bytes) filter (where not shared and starts_with(path, trash)), 0)::bigint as trash_bytes,
         coalesce(sum(bytes) filter (where not shared and kind = $3 and starts_with(path, trash)), 0)::bigint as trash_picture_bytes
       from space_file, (select trash from space where account = $1 and id = $2) t
       where account = $1 and space = $2 and gone_at is null) f,
     (select count(*)::int as folders, count(*) filter (where listed < seen)::int as folders_left
       from space_folder where account = $1 and space = $2) o
     where s.account = $1 and s.id = $2`,
    [account, space, kindNumber('picture')],
  );
}

/** Takes numbers for files and folders. @returns the first. */
async function takeNumbers(db: Queryable, account: number, count: number): Promise<number> {
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

/** Has the planner look at how many files there are, and whose: of a table that has just been filled it knows nothing. */
export async function countFilesAnew(db: Queryable): Promise<void> {
  await db.query(
    'analyze space_file (account, space, folder, path_hash), space_folder (account, space, parent, path_hash, seen, listed)',
  );
}
