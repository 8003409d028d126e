import { kindNumber } from '../../core/files/kinds';
import { LEAST_REPEATED } from '../../core/repeats/file-candidates';
import type { LookRows, PictureRows } from '../../core/repeats/picture-series';
import type { Account } from '../access/accounts';
import { type Database, overWholeAccount, type Queryable, theRow, transaction } from '../database';
import { unpacked } from './packed';
import { mailFolders } from './selection';

/** Pictures f of messages m outside the trash ($2) that can be fetched by themselves, none of an enclosed message; p is when they came. */
const PICTURES = `file f join message m on m.account = f.account and m.id = f.id / 512
  join (select message, min(received) as received from placement
    where account = $1 and gone_at is null and folder = any($2::int[]) group by message) p on p.message = m.id`;
const IS_LARGE = `f.account = $1 and f.kind = ${kindNumber('picture')} and f.size >= ${LEAST_REPEATED} and not f.enclosed and f.part <> ''`;

/** Pictures outside the trash, with whether they were looked at. */
export interface PictureCandidates extends PictureRows {
  size: Float64Array;
  /** 0: not yet. 1: they were, or can't be. */
  looked: Int32Array;
}

/** Reads which pictures there are, by the index alone. */
export async function pictureCandidates(database: Database, account: Account): Promise<PictureCandidates> {
  return transaction(database, async (client) => {
    await overWholeAccount(client);
    const packed = await theRow<Record<keyof PictureCandidates, Buffer | null>>(
      client,
      `select string_agg(float8send(id::float8), ''::bytea) as file, string_agg(int4send(author), ''::bytea) as author,
         string_agg(float8send(taken), ''::bytea) as taken, string_agg(float8send(size::float8), ''::bytea) as size,
         string_agg(int4send(looked), ''::bytea) as looked
       from (
         select f.id, (dense_rank() over (order by m.from_address_folded))::int as author, f.size,
           floor(date_part('epoch', coalesce(m.sent, p.received))) as taken, (l.file is not null)::int as looked
         from ${PICTURES} left join picture_look l on l.account = f.account and l.file = f.id
         where ${IS_LARGE} order by 2, 4, 1) found`,
      [account.id, await mailFolders(client, account)],
    );
    return { ...pictureRows(packed), looked: unpacked(packed.looked, 4) as Int32Array };
  });
}

/** Rows of pictures as PostgreSQL has packed them. */
export function pictureRows(packed: Record<'file' | 'author' | 'taken' | 'size', Buffer | null>) {
  return {
    file: unpacked(packed.file, 8) as Float64Array,
    author: unpacked(packed.author, 4) as Int32Array,
    taken: unpacked(packed.taken, 8) as Float64Array,
    size: unpacked(packed.size, 8) as Float64Array,
  };
}

/** Pictures that were looked at. */
export interface Looks extends LookRows {
  /** A placement of each. */
  placement: Int32Array;
  /** Rows with the same number have the same octets. */
  digest: Int32Array;
}

export async function readLooks(db: Queryable, account: Account): Promise<Looks> {
  const packed = await theRow<
    Record<Exclude<keyof Looks, 'high' | 'low' | 'digest'> | 'hash' | 'sha256', Buffer | null>
  >(
    db,
    `select string_agg(float8send(id::float8), ''::bytea) as file, string_agg(int4send(placement::int), ''::bytea) as placement,
       string_agg(int4send(author), ''::bytea) as author, string_agg(float8send(taken), ''::bytea) as taken,
       string_agg(float8send(size::float8), ''::bytea) as size, string_agg(int8send(hash), ''::bytea) as hash,
       string_agg(float8send(sharpness), ''::bytea) as sharpness, string_agg(float8send(points), ''::bytea) as points,
       string_agg(int4send(digest), ''::bytea) as sha256
     from (
       select f.id, p.id as placement, (dense_rank() over (order by m.from_address_folded))::int as author,
         floor(date_part('epoch', coalesce(m.sent, p.received))) as taken, f.own_size as size, l.hash,
         l.sharpness::float8 as sharpness, l.width::float8 * l.height as points,
         (dense_rank() over (order by d.sha256))::int as digest
       from picture_look l join file_digest d on d.account = l.account and d.file = l.file and d.sha256 is not null
       join lateral (select * from file where account = $1 and id = l.file offset 0) f on true
       join lateral (select * from message where account = $1 and id = l.file / 512 offset 0) m on true
       join lateral (
         select id, received from placement p where p.account = $1 and p.message = m.id and p.gone_at is null and p.folder = any($2::int[])
         order by id limit 1) p on true
       where l.account = $1 and l.hash is not null order by 3, 4, 1) found`,
    [account.id, await mailFolders(db, account)],
  );
  return {
    ...looksOf(packed),
    placement: unpacked(packed.placement, 4) as Int32Array,
    digest: unpacked(packed.sha256, 4) as Int32Array,
  };
}

/** Rows of pictures with how they look, as PostgreSQL has packed them. */
export function looksOf(
  packed: Record<'file' | 'author' | 'taken' | 'size' | 'hash' | 'sharpness' | 'points', Buffer | null>,
): LookRows {
  const halves = unpacked(packed.hash, 4) as Int32Array;
  const half = (at: 0 | 1) =>
    Int32Array.from({ length: halves.length / 2 }, (_, row) => halves[2 * row + at] as number);
  return {
    ...pictureRows(packed),
    high: half(0),
    low: half(1),
    sharpness: unpacked(packed.sharpness, 8) as Float64Array,
    points: unpacked(packed.points, 8) as Float64Array,
  };
}

/** How a picture looks; nulls where it can't be decoded, or has no features. */
export interface PictureLook {
  file: number;
  hash: bigint | null;
  sharpness: number | null;
  width: number | null;
  height: number | null;
}

export async function saveLooks(db: Queryable, account: number, looks: readonly PictureLook[]): Promise<void> {
  await db.query(
    `insert into picture_look (account, file, hash, sharpness, width, height)
     select $1, * from unnest($2::bigint[], $3::bigint[], $4::real[], $5::int[], $6::int[])
     on conflict (account, file) do update set hash = excluded.hash, sharpness = excluded.sharpness, width = excluded.width, height = excluded.height`,
    [
      account,
      looks.map(({ file }) => file),
      looks.map(({ hash }) => hash?.toString() ?? null),
      looks.map(({ sharpness }) => sharpness),
      looks.map(({ width }) => width),
      looks.map(({ height }) => height),
    ],
  );
}
