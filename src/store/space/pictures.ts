import { kindNumber } from '../../core/files/kinds';
import { LEAST_REPEATED } from '../../core/repeats/file-candidates';
import type { LookRows, PictureRows } from '../../core/repeats/picture-series';
import { type Queryable, theRow } from '../database';
import { unpacked } from '../index/packed';
import { looksOf, type PictureLook, pictureRows } from '../index/pictures';

/** Pictures f of one's own outside the trash of file spaces s that are large enough to be worth a look. Who has them is their author. */
const PICTURES = `space_file f join space s on s.account = f.account and s.id = f.space
  where f.account = $1 and f.gone_at is null and not f.shared and f.kind = ${kindNumber('picture')} and f.bytes >= ${LEAST_REPEATED}
    and f.modified is not null and not coalesce(starts_with(f.path, s.trash), false)`;

/** Pictures of file spaces, with whether they were looked at. */
export interface SpacePictures extends PictureRows {
  size: Float64Array;
  /** 0: not yet. 1: they were, or can't be. */
  looked: Int32Array;
}

export async function spacePictureCandidates(db: Queryable, account: number): Promise<SpacePictures> {
  const packed = await theRow<Record<keyof SpacePictures, Buffer | null>>(
    db,
    `select string_agg(float8send(id::float8), ''::bytea) as file, string_agg(int4send(space), ''::bytea) as author,
       string_agg(float8send(taken), ''::bytea) as taken, string_agg(float8send(bytes::float8), ''::bytea) as size,
       string_agg(int4send(looked::int), ''::bytea) as looked
     from (select f.id, f.space, floor(date_part('epoch', f.modified)) as taken, f.bytes, f.looked from ${PICTURES} order by 2, 3, 1) found`,
    [account],
  );
  return { ...pictureRows(packed), looked: unpacked(packed.looked, 4) as Int32Array };
}

/** Pictures of file spaces that were looked at. */
export interface SpaceLooks extends LookRows {
  /** Rows with the same number have the same octets. */
  digest: Int32Array;
}

export async function readSpaceLooks(db: Queryable, account: number): Promise<SpaceLooks> {
  const packed = await theRow<Record<Exclude<keyof SpaceLooks, 'high' | 'low'> | 'hash', Buffer | null>>(
    db,
    `select string_agg(float8send(id::float8), ''::bytea) as file, string_agg(int4send(space), ''::bytea) as author,
       string_agg(float8send(taken), ''::bytea) as taken, string_agg(float8send(bytes::float8), ''::bytea) as size,
       string_agg(int8send(look_hash), ''::bytea) as hash, string_agg(float8send(sharpness), ''::bytea) as sharpness,
       string_agg(float8send(points), ''::bytea) as points, string_agg(int4send(digest), ''::bytea) as digest
     from (
       select f.id, f.space, floor(date_part('epoch', f.modified)) as taken, f.bytes, f.look_hash, f.sharpness::float8 as sharpness,
         f.width::float8 * f.height as points, (dense_rank() over (order by f.sha256))::int as digest
       from ${PICTURES} and f.look_hash is not null and f.sha256 is not null order by 2, 3, 1) found`,
    [account],
  );
  return { ...looksOf(packed), digest: unpacked(packed.digest, 4) as Int32Array };
}

/** Keeps how a picture looks, and what it holds; null where it can't be read. */
export async function saveSpaceLook(
  db: Queryable,
  account: number,
  { file, hash, sharpness, width, height }: PictureLook,
  sha256: Buffer | null,
): Promise<void> {
  await db.query(
    `update space_file set looked = true, look_hash = $3, sharpness = $4, width = $5, height = $6, read = true,
       sha256 = coalesce($7, sha256) where account = $1 and id = $2`,
    [account, file, hash?.toString() ?? null, sharpness, width, height, sha256],
  );
}
