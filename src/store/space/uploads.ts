import { printMultirange, type Ranges } from '../../core/sets/ranges';
import { fold } from '../../core/text';
import { nextNumber } from '../access/accounts';
import { type Queryable, row, rows, theRow } from '../database';
import { unpacked } from '../index/packed';
import { updateRow } from '../update';
import type { FileAmount } from './spaces';

export type UploadState = 'queued' | 'running' | 'paused' | 'done' | 'cancelled' | 'failed';

/** Why a file was not put into the file space. */
export type NotPutReason =
  /** It is not where it was. */
  | 'vanished'
  /** It is not as long as its server said, or can't be read. */
  | 'differs'
  | 'unreadable'
  | 'cancelled'
  /** What the file server says. */
  | 'no-room'
  | 'locked'
  | 'folder-gone'
  | 'refused'
  /** Something lies at every place that it could have. */
  | 'there'
  /** What was read back has other octets. */
  | 'altered';

/** Files of messages that are put into a file space. */
export interface SpaceUpload {
  id: number;
  space: number;
  label: string;
  /** The folder below which they are put, as core/space/path.ts spells it. */
  folder: string;
  state: UploadState;
  /** Encoded octets of what is asked for, decoded ones of what is there. */
  asked: FileAmount;
  done: FileAmount;
  /** Of `done`, what the file space had before, and nothing was sent for. */
  had: FileAmount;
  left: ({ reason: NotPutReason } & FileAmount)[];
  wanted: 'pause' | 'cancel' | null;
  attempts: number;
  problem: { kind: string; detail: string } | null;
  createdAt: Date;
  endedAt: Date | null;
}

const amount = (which: string, octets: string) =>
  `json_build_object('files', count(*) filter (where ${which}), 'bytes', coalesce(sum(${octets}) filter (where ${which}), 0))`;

const SELECT = `select u.id, u.space, u.label, u.folder, u.state, json_build_object('files', u.asked_files, 'bytes', u.asked_bytes) as asked,
    counted.done, counted.had, coalesce((
      select json_agg(json_build_object('reason', l.reason, 'files', l.files, 'bytes', l.bytes) order by l.reason) from (
        select f.reason, count(*) as files, sum(f.encoded) as bytes from space_upload_file f
        where f.account = u.account and f.upload = u.id and f.reason is not null group by f.reason) l), '[]') as left,
    u.wanted, u.attempts, u.problem, u.created_at as "createdAt", u.ended_at as "endedAt"
  from space_upload u cross join lateral (
    select ${amount(`f.state = 'done'`, 'f.bytes')} as done, ${amount(`f.state = 'done' and f.path is null`, 'f.bytes')} as had
    from space_upload_file f where f.account = u.account and f.upload = u.id) counted`;

/** The uploads of an account, the newest first. */
export async function uploadsOf(db: Queryable, account: number): Promise<SpaceUpload[]> {
  return rows<SpaceUpload>(db, `${SELECT} where u.account = $1 order by u.id desc`, [account]);
}

export async function uploadById(db: Queryable, account: number, id: number): Promise<SpaceUpload | undefined> {
  return row<SpaceUpload>(db, `${SELECT} where u.account = $1 and u.id = $2`, [account, id]);
}

/** Octets of a file in a message from which on it is put into a file space: the line that takes its place has some hundreds. */
export const LEAST_UPLOADED = 4096;

/** What an upload would put there. */
export interface Uploadable {
  /** Of files, rising. */
  ids: number[];
  /** How many, with the octets that messages hold of them. */
  inMail: FileAmount;
  /** Octets that they will take in the file space: exact of what is not in base64, else up to some hundredths too many. */
  inSpace: number;
}

/**
 * Of some files those that can be taken out of their messages once they lie elsewhere: in a message outside the trash that nothing keeps
 * and nothing takes already, and large enough.
 *
 * @param kept placements that keep their files, or are taken. @param out files that are taken out.
 * @param folders those outside the trash.
 */
export async function uploadable(
  db: Queryable,
  account: number,
  asked: Ranges,
  kept: Ranges,
  out: Ranges,
  folders: readonly number[],
): Promise<Uploadable> {
  const packed = await theRow<{ ids: Buffer | null; files: number; own: number; there: number }>(
    db,
    `select string_agg(float8send(f.id::float8), ''::bytea order by f.id) as ids, count(*)::int as files,
       coalesce(sum(f.own_size), 0)::bigint as own,
       coalesce(sum(case when f.encoding = 'base64' then f.size * 57 / 78 else f.size end), 0)::bigint as there
     from unnest($2::int8multirange) as span cross join lateral (
       select * from file where account = $1 and id >= lower(span) and id < upper(span) offset 0) f
     where not f.enclosed and f.own_size >= ${LEAST_UPLOADED} and not $4::int8multirange @> f.id
       and exists (select from placement p where p.account = $1 and p.message = f.id / 512 and p.gone_at is null
         and p.folder = any($5::int[]))
       and not exists (select from placement p where p.account = $1 and p.message = f.id / 512 and p.gone_at is null
         and $3::int8multirange @> p.id)`,
    [account, printMultirange(asked), printMultirange(kept), printMultirange(out), folders],
  );
  const ids = Array.from(unpacked(packed.ids, 8) as Float64Array);
  return { ids, inMail: { files: packed.files, bytes: packed.own }, inSpace: packed.there };
}

/** Asks for files to be put into a file space; gives the number of that. */
export async function createUpload(
  db: Queryable,
  account: number,
  upload: { space: number; label: string; folder: string; files: Ranges; asked: FileAmount },
): Promise<number> {
  const id = await nextNumber(db, account, 'upload');
  await db.query(
    `insert into space_upload (account, id, space, label, folder, files, asked_files, asked_bytes)
     values ($1, $2, $3, $4, $5, $6::int8multirange, $7, $8)`,
    [
      ...[account, id, upload.space, upload.label, upload.folder],
      ...[printMultirange(upload.files), upload.asked.files, upload.asked.bytes],
    ],
  );
  return id;
}

const CHANGED = {
  state: 'state',
  wanted: 'wanted',
  attempts: 'attempts',
  problem: 'problem',
  endedAt: 'ended_at',
} as const;

export async function updateUpload(
  db: Queryable,
  account: number,
  id: number,
  change: { [Key in keyof typeof CHANGED]?: SpaceUpload[Key] | undefined },
): Promise<void> {
  const endedAt = change.state && (['done', 'cancelled', 'failed'].includes(change.state) ? new Date() : null);
  await updateRow(db, 'space_upload', CHANGED, { ...change, endedAt }, 'account = $1 and id = $2', [account, id]);
}

/** What the person wants of an upload. */
export async function wantedOfUpload(db: Queryable, account: number, id: number): Promise<SpaceUpload['wanted']> {
  const found = await row<Pick<SpaceUpload, 'wanted'>>(
    db,
    'select wanted from space_upload where account = $1 and id = $2',
    [account, id],
  );
  return found?.wanted ?? null;
}

/**
 * What of an upload is neither there nor left, by folder and UID: ids of files, and of a placement of each one's message, in two rows of
 * the same length. What is nowhere any more is not among them.
 */
export async function pendingOfUpload(
  db: Queryable,
  account: number,
  id: number,
): Promise<{ files: number[]; placements: number[] }> {
  const packed = await theRow<{ files: Buffer | null; placements: Buffer | null }>(
    db,
    `select string_agg(float8send(file::float8), ''::bytea) as files,
       string_agg(float8send(placement::float8), ''::bytea) as placements
     from (
       select f.id as file, p.id as placement from space_upload u cross join lateral unnest(u.files) as span
       cross join lateral (select id from file where account = $1 and id >= lower(span) and id < upper(span) offset 0) f
       cross join lateral (
         select id, folder, uid from placement where account = $1 and message = f.id / 512 and gone_at is null order by id limit 1) p
       where u.account = $1 and u.id = $2 and (
         select d.state from space_upload_file d where d.account = $1 and d.upload = $2 and d.file = f.id and d.state <> 'sent') is null
       order by p.folder, p.uid, f.id) pending`,
    [account, id],
  );
  const list = (octets: Buffer | null) => Array.from(unpacked(octets, 8) as Float64Array);
  return { files: list(packed.files), placements: list(packed.placements) };
}

/** A file that was about to be put somewhere. */
export interface SentUpload {
  file: number;
  path: string;
  /** In hexadecimal digits. */
  sha256: string;
  bytes: number;
}

/** What an upload was about to put there, and may have. */
export async function sentOfUpload(db: Queryable, account: number, id: number): Promise<SentUpload[]> {
  return rows<SentUpload>(
    db,
    `select file, path, encode(sha256, 'hex') as sha256, bytes from space_upload_file
     where account = $1 and upload = $2 and state = 'sent'`,
    [account, id],
  );
}

/** Writes down where a file is about to be put. @param key its path below the folder of the upload. */
export async function noteSent(
  db: Queryable,
  account: number,
  upload: number,
  { file, path, sha256, bytes, encoded, key }: SentUpload & { encoded: number; key: string },
): Promise<void> {
  await db.query(
    `insert into space_upload_file (account, upload, file, state, encoded, path, path_key, sha256, bytes)
     values ($1, $2, $3, 'sent', $4, $5, $6, decode($7, 'hex'), $8)
     on conflict (account, upload, file) do update set path = excluded.path, path_key = excluded.path_key,
       sha256 = excluded.sha256, bytes = excluded.bytes`,
    [account, upload, file, encoded, path, fold(key), sha256, bytes],
  );
}

/** Writes down that the file space has a file. @param path where it was put; null where it was there before. */
export async function notePut(
  db: Queryable,
  account: number,
  upload: number,
  put: { file: number; encoded: number; path: string | null; sha256: string; bytes: number; spaceFile: number },
): Promise<void> {
  await db.query(
    `insert into space_upload_file (account, upload, file, state, encoded, path, sha256, bytes, space_file)
     values ($1, $2, $3, 'done', $4, $5, decode($6, 'hex'), $7, $8)
     on conflict (account, upload, file) do update set state = 'done', path = excluded.path, sha256 = excluded.sha256,
       bytes = excluded.bytes, space_file = excluded.space_file`,
    [account, upload, put.file, put.encoded, put.path, put.sha256, put.bytes, put.spaceFile],
  );
}

export async function noteNotPut(
  db: Queryable,
  account: number,
  upload: number,
  file: number,
  encoded: number,
  reason: NotPutReason,
): Promise<void> {
  await db.query(
    `insert into space_upload_file (account, upload, file, state, encoded, reason) values ($1, $2, $3, 'left', $4, $5)
     on conflict (account, upload, file) do update set state = 'left', reason = excluded.reason, path = null, path_key = null`,
    [account, upload, file, encoded, reason],
  );
}

/** Notes of all that was not looked at, and of what was about to be put there, why it is left. */
export async function leaveRestOfUpload(
  db: Queryable,
  account: number,
  upload: number,
  reason: 'vanished' | 'cancelled',
): Promise<void> {
  await db.query(
    `insert into space_upload_file (account, upload, file, state, encoded, reason)
     select $1, $2, f.id, 'left', f.size, $3 from space_upload u cross join lateral unnest(u.files) as span
     cross join lateral (select id, size from file where account = $1 and id >= lower(span) and id < upper(span) offset 0) f
     where u.account = $1 and u.id = $2
     on conflict (account, upload, file) do update set state = 'left', reason = excluded.reason, path = null, path_key = null
     where space_upload_file.state = 'sent'`,
    [account, upload, reason],
  );
}

/** Which of paths below the folder of an upload it has given, in any letter case; folded. */
export async function pathsOfUpload(
  db: Queryable,
  account: number,
  upload: number,
  paths: readonly string[],
): Promise<Set<string>> {
  const found = await rows<{ key: string }>(
    db,
    'select path_key as key from space_upload_file where account = $1 and upload = $2 and path_key = any($3::text[])',
    [account, upload, paths.map(fold)],
  );
  return new Set(found.map(({ key }) => key));
}

/** What became of a file of an upload. */
export interface UploadedFile {
  file: number;
  name: string;
  state: 'sent' | 'done' | 'left';
  /** Where it lies in the file space; null where it does not, or not any more. */
  path: string | null;
  bytes: number | null;
  encoded: number;
  reason: NotPutReason | null;
}

/** Files of an upload that were looked at, by their ids. */
export async function filesOfUpload(
  db: Queryable,
  account: number,
  upload: number,
  after: number,
  limit: number,
): Promise<UploadedFile[]> {
  return rows<UploadedFile>(
    db,
    `select u.file, coalesce(f.name, '') as name, u.state, s.path, u.bytes, u.encoded, u.reason from space_upload_file u
     left join lateral (select name from file where account = $1 and id = u.file offset 0) f on true
     left join lateral (
       select path from space_file where account = $1 and id = u.space_file and gone_at is null offset 0) s on true
     where u.account = $1 and u.upload = $2 and u.file > $3 order by u.file limit $4`,
    [account, upload, after, limit],
  );
}

/** Files that lie there by an upload, or did before it. */
export async function putByUpload(db: Queryable, account: number, upload: number): Promise<number[]> {
  const found = await rows<{ file: number }>(
    db,
    `select file from space_upload_file where account = $1 and upload = $2 and state = 'done'`,
    [account, upload],
  );
  return found.map(({ file }) => file);
}
