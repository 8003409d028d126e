import type { Groups } from '../../core/repeats/candidates';
import { fileCandidates, LEAST_REPEATED } from '../../core/repeats/file-candidates';
import type { FileCopyRows } from '../../core/repeats/file-copies';
import type { Account } from '../access/accounts';
import { type Database, overWholeAccount, type Queryable, rows, theRow, transaction } from '../database';
import { unpacked } from './packed';
import { mailFolders } from './selection';
import { numbered } from './twins';

/** Files of messages outside the trash that may be the same, with what was found of them. */
export interface FileCandidates {
  groups: Groups;
  /** A row a file. */
  file: Float64Array;
  size: Float64Array;
  /** 1 where it is in base64. */
  isBase64: Int32Array;
  /** 0: not read yet. -1: can't be read. Else rows with the same number have the same octets. */
  digest: Int32Array;
}

/** A file f of a message outside the trash ($2) that can be fetched by itself: none of an enclosed message. */
const IS_THERE = `not f.enclosed and f.part <> '' and exists (
  select from placement p where p.account = f.account and p.message = f.id / 512 and p.gone_at is null and p.folder = any($2::int[]))`;

/** Finds which files may be the same, by the index alone. */
export async function repeatedFileCandidates(database: Database, account: Account): Promise<FileCandidates> {
  return transaction(database, async (client) => {
    await overWholeAccount(client);
    const packed = await theRow<Record<'file' | 'kind' | 'size' | 'base64' | 'name' | 'digest', Buffer | null>>(
      client,
      `select string_agg(float8send(id::float8), ''::bytea) as file, string_agg(int4send(kind), ''::bytea) as kind,
         string_agg(float8send(size::float8), ''::bytea) as size, string_agg(int4send(base64), ''::bytea) as base64,
         string_agg(int4send(name), ''::bytea) as name, string_agg(int4send(digest), ''::bytea) as digest
       from (
         select f.id, f.kind::int as kind, f.size, (f.encoding = 'base64')::int as base64,
           case when f.name_folded = '' then 0 else hashtext(f.name_folded) end as name,
           case when d.file is null then 0 when d.sha256 is null then -1
             else (dense_rank() over (order by d.sha256 nulls last))::int end as digest
         from file f left join file_digest d on d.account = f.account and d.file = f.id
         where f.account = $1 and f.size >= ${LEAST_REPEATED} and ${IS_THERE} order by f.id) found`,
      [account.id, await mailFolders(client, account)],
    );
    const ints = (name: keyof typeof packed) => unpacked(packed[name], 4) as Int32Array;
    const size = unpacked(packed.size, 8) as Float64Array;
    return {
      groups: fileCandidates({ kind: ints('kind'), size, isBase64: ints('base64'), name: ints('name') }),
      file: unpacked(packed.file, 8) as Float64Array,
      size,
      isBase64: ints('base64') as Int32Array,
      digest: ints('digest'),
    };
  });
}

/** Files outside the trash that were found to have the same octets as one of another message. */
export async function readFileCopies(db: Queryable, account: Account): Promise<FileCopyRows> {
  const packed = await theRow<
    Record<'digest' | 'file' | 'placement' | 'size' | 'received' | 'flags' | 'thread' | 'message', Buffer | null>
  >(
    db,
    `with live as (
       select d.sha256, d.file, f.own_size, p.id, coalesce(m.sent, p.received) as received, p.flags, m.thread, m.id as message
       from file_digest d
       cross join lateral (select * from file where account = $1 and id = d.file and not enclosed offset 0) f
       cross join lateral (select * from message where account = $1 and id = d.file / 512 offset 0) m
       cross join lateral (select * from placement where account = $1 and message = m.id and gone_at is null offset 0) p
       where d.account = $1 and d.sha256 is not null and f.size >= ${LEAST_REPEATED} and p.folder = any($2::int[])),
     told as (select *, min(file) over (partition by sha256) <> max(file) over (partition by sha256) as is_again from live)
     select string_agg(sha256, ''::bytea) as digest, string_agg(float8send(file::float8), ''::bytea) as file,
       string_agg(int4send(id::int), ''::bytea) as placement, string_agg(float8send(own_size::float8), ''::bytea) as size,
       string_agg(float8send(floor(date_part('epoch', received))), ''::bytea) as received,
       string_agg(int4send(flags), ''::bytea) as flags, string_agg(int4send(coalesce(thread, 0)::int), ''::bytea) as thread,
       string_agg(int4send(message::int), ''::bytea) as message
     from (select * from told where is_again order by sha256, file, id) together`,
    [account.id, await mailFolders(db, account)],
  );
  const ints = (name: keyof typeof packed) => unpacked(packed[name], 4) as Int32Array;
  const floats = (name: keyof typeof packed) => unpacked(packed[name], 8) as Float64Array;
  return {
    digest: numbered(packed.digest),
    file: floats('file'),
    placement: ints('placement'),
    size: floats('size'),
    received: floats('received'),
    flags: ints('flags'),
    isAnswered: await answeredAmong(db, account.id, ints('thread') as Int32Array, ints('message') as Int32Array),
  };
}

/** 1 of each message behind which another one came in its thread. */
async function answeredAmong(
  db: Queryable,
  account: number,
  threads: Int32Array,
  messages: Int32Array,
): Promise<Int32Array> {
  if (messages.length === 0) return new Int32Array();
  const found = await rows<{ thread: number; last: number }>(
    db,
    'select thread, max(id) as last from message where account = $1 and thread = any($2::bigint[]) group by thread',
    [account, [...new Set(threads)]],
  );
  const last = new Map(found.map(({ thread, last: id }) => [thread, id]));
  return Int32Array.from(messages, (message, row) => ((last.get(threads[row] as number) ?? 0) > message ? 1 : 0));
}

/** A file that is to be read, where it lies. */
export interface FileToRead {
  file: number;
  part: string;
  type: string;
  encoding: string;
  /** Encoded octets. */
  size: number;
  generation: number;
  uid: number;
}

/** Where files lie, each once, by folder and in the order in which the server has them. */
export async function placesOfFiles(db: Queryable, account: number, files: readonly number[]): Promise<FileToRead[]> {
  return rows<FileToRead>(
    db,
    `select file, part, type, encoding, size, generation, uid::int8 as uid from (
       select distinct on (f.id) f.id as file, f.part, f.type, f.encoding, f.size, p.generation, p.uid
       from unnest($2::bigint[]) as wanted (file)
       cross join lateral (select * from file where account = $1 and id = wanted.file offset 0) f
       cross join lateral (
         select * from placement where account = $1 and message = wanted.file / 512 and gone_at is null offset 0) p
       order by f.id, p.id) places
     order by generation, uid, file`,
    [account, files],
  );
}

/** What came of reading a file; null where it can't be read. */
export interface FileDigest {
  file: number;
  sha256: Buffer | null;
  /** Decoded octets. */
  size: number | null;
}

export async function saveFileDigests(db: Queryable, account: number, digests: readonly FileDigest[]): Promise<void> {
  await db.query(
    `insert into file_digest (account, file, sha256, size) select $1, * from unnest($2::bigint[], $3::bytea[], $4::bigint[])
     on conflict (account, file) do update set sha256 = excluded.sha256, size = excluded.size`,
    [account, digests.map(({ file }) => file), digests.map(({ sha256 }) => sha256), digests.map(({ size }) => size)],
  );
}
