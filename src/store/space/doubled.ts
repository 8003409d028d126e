import { doubledCandidates } from '../../core/repeats/doubled';
import { LEAST_REPEATED } from '../../core/repeats/file-candidates';
import type { Account } from '../access/accounts';
import { type Database, type Queryable, rows, theRow } from '../database';
import { unpacked } from '../index/packed';
import { repeatedFileCandidates } from '../index/repeated-files';
import { mailFolders } from '../index/selection';

/** Decoded octets from which on a file is compared: as many as a repeated file has at least in a message. */
const LEAST = Math.floor((LEAST_REPEATED * 3) / 4.2);

/** Of a file f in a file space s: it is there, is one's own, and does not lie in the trash, from which it may go any day. */
export const STAYS = 'f.gone_at is null and not f.shared and not coalesce(starts_with(f.path, s.trash), false)';

/** Something that has to be read to be compared. */
export interface ToRead {
  /** Of a file of a message, or of one of a file space. */
  id: number;
  bytes: number;
}

/** What may lie both in a message and in a file space of one's own, and was not read yet. */
export async function unreadDoubled(
  database: Database,
  account: Account,
): Promise<{ mail: ToRead[]; space: ToRead[] }> {
  const packed = await theRow<Record<'id' | 'bytes' | 'read', Buffer | null>>(
    database,
    `select string_agg(float8send(id::float8), ''::bytea) as id, string_agg(float8send(bytes::float8), ''::bytea) as bytes,
       string_agg(int4send(read::int), ''::bytea) as read
     from (select f.id, f.bytes, f.read from space_file f join space s on s.account = f.account and s.id = f.space
       where f.account = $1 and f.bytes >= ${LEAST} and ${STAYS} order by f.id) found`,
    [account.id],
  );
  const [id, bytes] = [unpacked(packed.id, 8) as Float64Array, unpacked(packed.bytes, 8) as Float64Array];
  const isRead = unpacked(packed.read, 4) as Int32Array;
  if (id.length === 0) return { mail: [], space: [] };
  const { file, size, isBase64, digest } = await repeatedFileCandidates(database, account);
  const found = doubledCandidates({ size, isBase64 }, bytes);
  const of = (ids: Float64Array, octets: Float64Array) => (row: number) => ({
    id: ids[row] as number,
    bytes: octets[row] as number,
  });
  return {
    mail: found.mail.filter((row) => digest[row] === 0).map(of(file, size)),
    space: found.space.filter((row) => isRead[row] === 0).map(of(id, bytes)),
  };
}

/** A file of a file space that is to be read. */
export interface SpaceFileToRead {
  id: number;
  space: number;
  path: string;
  bytes: number;
}

export async function spaceFilesToRead(
  db: Queryable,
  account: number,
  ids: readonly number[],
): Promise<SpaceFileToRead[]> {
  return rows<SpaceFileToRead>(
    db,
    `select f.id, f.space, f.path, f.bytes from unnest($2::bigint[]) as wanted (id) cross join lateral (
       select * from space_file where account = $1 and id = wanted.id and gone_at is null offset 0) f order by f.space, f.id`,
    [account, ids],
  );
}

/** Files of one's own in a file space that have so many octets, and were not read yet. */
export async function unreadOfSize(
  db: Queryable,
  account: number,
  space: number,
  bytes: number,
  most: number,
): Promise<SpaceFileToRead[]> {
  return rows<SpaceFileToRead>(
    db,
    `select f.id, f.space, f.path, f.bytes from space_file f join space s on s.account = f.account and s.id = f.space
     where f.account = $1 and f.space = $2 and f.bytes = $3 and not f.read and ${STAYS} order by f.id limit $4`,
    [account, space, bytes, most],
  );
}

/** Keeps what a file holds; null where it can't be read. */
export async function saveSpaceDigest(
  db: Queryable,
  account: number,
  id: number,
  sha256: Buffer | null,
): Promise<void> {
  await db.query('update space_file set read = true, sha256 = $3 where account = $1 and id = $2', [
    account,
    id,
    sha256,
  ]);
}

/** A file of a message outside the trash that has the octets of one in a file space. A row each placement. */
export interface DoubledRow {
  /** In hexadecimal digits. */
  sha256: string;
  file: number;
  placement: number;
  /** Encoded octets. */
  size: number;
}

export async function doubledRows(db: Queryable, account: Account): Promise<DoubledRow[]> {
  return rows<DoubledRow>(
    db,
    `select encode(s.sha256, 'hex') as sha256, d.file, p.id as placement, f.own_size as size
     from (select distinct f.sha256 from space_file f join space s on s.account = f.account and s.id = f.space
       where f.account = $1 and f.sha256 is not null and ${STAYS}) s
     cross join lateral (select * from file_digest where account = $1 and sha256 = s.sha256 offset 0) d
     cross join lateral (select * from file where account = $1 and id = d.file and not enclosed offset 0) f
     cross join lateral (select * from placement where account = $1 and message = d.file / 512 and gone_at is null offset 0) p
     where p.folder = any($2::int[]) order by s.sha256, d.file, p.id`,
    [account.id, await mailFolders(db, account)],
  );
}

/** A file of a file space of one's own, and where it is. */
export interface SpaceCopy {
  id: number;
  space: number;
  origin: string;
  root: string;
  path: string;
  name: string;
  type: string;
  bytes: number;
  etag: string | null;
  modified: Date | null;
  sha256: string;
}

/** Files of file spaces with some digests, outside the trash. */
export async function spaceCopies(db: Queryable, account: number, digests: readonly string[]): Promise<SpaceCopy[]> {
  return rows<SpaceCopy>(
    db,
    `select f.id, f.space, s.origin, s.root, f.path, f.name, f.type, f.bytes, f.etag, f.modified, encode(f.sha256, 'hex') as sha256
     from unnest($2::bytea[]) as wanted (sha256)
     cross join lateral (select * from space_file where account = $1 and sha256 = wanted.sha256 offset 0) f
     join space s on s.account = $1 and s.id = f.space where ${STAYS} order by f.id`,
    [account, digests.map((digits) => Buffer.from(digits, 'hex'))],
  );
}
