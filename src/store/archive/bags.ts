import { printMultirange, type Ranges } from '../../core/sets/ranges';
import { fold } from '../../core/text';
import { nextNumber } from '../access/accounts';
import { type Queryable, row, rows, theRow } from '../database';

export type BagPlace = 'here' | 'download';
export type BagState =
  | 'queued'
  | 'running'
  /** Every octet is read back. */
  | 'checking'
  | 'paused'
  | 'done'
  | 'cancelled'
  | 'failed'
  | 'erased';

/** Why a file was not saved: it is gone; it is not what the server said of it; or its answer could not be read. */
export type UnsavedReason = 'vanished' | 'differs' | 'unreadable' | 'cancelled';

/** Files, and octets: encoded where they are asked for, decoded where they are saved. */
export interface FileAmount {
  files: number;
  bytes: number;
}

/** A bag of files. */
export interface Bag {
  id: number;
  label: string;
  place: BagPlace;
  folder: string;
  state: BagState;
  asked: FileAmount;
  saved: FileAmount;
  /** Of which a copy that stays was read back and was equal. */
  checked: FileAmount;
  left: ({ reason: UnsavedReason } & FileAmount)[];
  wanted: 'pause' | 'cancel' | null;
  attempts: number;
  problem: { kind: string; detail: string } | null;
  createdAt: Date;
  endedAt: Date | null;
  checkedAt: Date | null;
}

const amount = (name: string, bytes: string, condition: string) => `(
  select json_build_object('files', count(*), 'bytes', coalesce(sum(${bytes}), 0)) from bag_file f
  where f.account = bag.account and f.bag = bag.id and ${condition}) as ${name}`;

const COLUMNS = `id, label, place, folder, state, json_build_object('files', asked_files, 'bytes', asked_bytes) as asked,
  ${amount('saved', 'f.size', 'f.reason is null')}, ${amount('checked', 'f.size', 'f.checked_at is not null')},
  coalesce((select json_agg(json_build_object('reason', l.reason, 'files', l.files, 'bytes', l.bytes) order by l.reason) from (
    select f.reason, count(*) as files, coalesce(sum(f.encoded), 0) as bytes from bag_file f
    where f.account = bag.account and f.bag = bag.id and f.reason is not null group by f.reason) l), '[]') as left,
  wanted, attempts, problem, created_at as "createdAt", ended_at as "endedAt", checked_at as "checkedAt"`;

export async function bagsOf(db: Queryable, account: number): Promise<Bag[]> {
  return rows<Bag>(db, `select ${COLUMNS} from bag where account = $1 order by id desc`, [account]);
}

export async function bagById(db: Queryable, account: number, id: number): Promise<Bag | undefined> {
  return row<Bag>(db, `select ${COLUMNS} from bag where account = $1 and id = $2`, [account, id]);
}

/** Makes a bag that is to hold files; gives its number. @param folder what its folder is called, before its number. */
export async function createBag(
  db: Queryable,
  account: number,
  bag: { label: string; place: BagPlace; folder: string; files: Ranges; asked: FileAmount },
): Promise<number> {
  const id = await nextNumber(db, account, 'bag');
  await db.query(
    `insert into bag (account, id, label, place, folder, files, asked_files, asked_bytes)
     values ($1, $2, $3, $4, $5, $6::int8multirange, $7, $8)`,
    [
      account,
      id,
      bag.label,
      bag.place,
      `${bag.folder}-${id}`,
      printMultirange(bag.files),
      bag.asked.files,
      bag.asked.bytes,
    ],
  );
  return id;
}

export async function updateBag(
  db: Queryable,
  account: number,
  id: number,
  change: {
    state?: BagState;
    wanted?: Bag['wanted'];
    attempts?: number;
    problem?: Bag['problem'];
    isChecked?: boolean;
  },
): Promise<void> {
  await db.query(
    `update bag set state = coalesce($3, state),
       ended_at = case when $3 in ('done', 'cancelled', 'failed') then now() when $3 is not null then null else ended_at end,
       wanted = case when $4 then $5 else wanted end, attempts = coalesce($6, attempts),
       problem = case when $7 then $8::jsonb else problem end, checked_at = case when $9 then now() else checked_at end
     where account = $1 and id = $2`,
    [
      account,
      id,
      change.state ?? null,
      change.wanted !== undefined,
      change.wanted ?? null,
      change.attempts ?? null,
      change.problem !== undefined,
      change.problem ? JSON.stringify(change.problem) : null,
      change.isChecked ?? false,
    ],
  );
}

/** What the person wants of a bag that is being written. */
export async function wantedOfBag(db: Queryable, account: number, id: number): Promise<Bag['wanted']> {
  const found = await row<Pick<Bag, 'wanted'>>(db, 'select wanted from bag where account = $1 and id = $2', [
    account,
    id,
  ]);
  return found?.wanted ?? null;
}

/** A file that a bag is still to hold, and where it is on the server. */
export interface PendingFile {
  file: number;
  placement: number;
  generation: number;
  folder: number;
  uid: number;
  part: string;
  name: string;
  type: string;
  encoding: string;
  /** Encoded octets, as the structure says. */
  size: number;
  date: Date;
  author: string;
  subject: string;
  messageId: string;
}

/**
 * Files of a bag that were not dealt with, by folder and UID, at most so many; of a message in several folders one place is
 * enough. Those whose message is gone have none.
 */
export async function pendingFiles(db: Queryable, account: number, bag: number, most: number): Promise<PendingFile[]> {
  return rows<PendingFile>(
    db,
    `select f.id as file, p.id as placement, p.generation, p.folder, p.uid, f.part, f.name, f.type, f.encoding, f.size,
       coalesce(m.sent, p.received) as date, coalesce(nullif(m.from_name, ''), m.from_address) as author,
       m.subject, m.message_id as "messageId"
     from bag b cross join lateral unnest(b.files) as span
     cross join lateral (select * from file where account = $1 and id >= lower(span) and id < upper(span) offset 0) f
     cross join lateral (select * from message where account = $1 and id = f.id / 512 offset 0) m
     cross join lateral (
       select * from placement where account = $1 and message = m.id and gone_at is null order by id limit 1) p
     where b.account = $1 and b.id = $2
       and not exists (select 1 from bag_file d where d.account = $1 and d.bag = $2 and d.file = f.id)
     order by p.folder, p.uid, f.id limit $3`,
    [account, bag, most],
  );
}

/** Notes of what a bag was to hold and is nowhere any more that it vanished. */
export async function leaveVanishedFiles(db: Queryable, account: number, bag: number): Promise<void> {
  await db.query(
    `insert into bag_file (account, bag, file, placement, encoded, reason)
     select $1, $2, f.id, 0, f.size, 'vanished' from bag b cross join lateral unnest(b.files) as span
     cross join lateral (select * from file where account = $1 and id >= lower(span) and id < upper(span) offset 0) f
     where b.account = $1 and b.id = $2
     on conflict do nothing`,
    [account, bag],
  );
}

/** Whether a path of a bag is taken, in any letter case. */
export async function isPathTaken(db: Queryable, account: number, bag: number, path: string): Promise<boolean> {
  const found = await row(db, 'select 1 from bag_file where account = $1 and bag = $2 and path_key = $3', [
    account,
    bag,
    fold(path),
  ]);
  return found !== undefined;
}

/** A file as it was saved. */
export interface SavedFile {
  file: number;
  placement: number;
  path: string;
  size: number;
  sha256: string;
  encoded: number;
}

export async function addSavedFile(db: Queryable, account: number, bag: number, saved: SavedFile): Promise<void> {
  await db.query(
    `insert into bag_file (account, bag, file, placement, path, path_key, size, sha256, encoded)
     values ($1, $2, $3, $4, $5, $6, $7, decode($8, 'hex'), $9)`,
    [account, bag, saved.file, saved.placement, saved.path, fold(saved.path), saved.size, saved.sha256, saved.encoded],
  );
}

/** Notes why files of a bag were not saved, or that a saved one did not read back as it was. */
export async function leaveFile(
  db: Queryable,
  account: number,
  bag: number,
  left: { file: number; placement: number; encoded: number },
  reason: UnsavedReason,
): Promise<void> {
  await db.query(
    `insert into bag_file (account, bag, file, placement, encoded, reason) values ($1, $2, $3, $4, $5, $6)
     on conflict (account, bag, file) do update set reason = excluded.reason, path = '', path_key = null, checked_at = null`,
    [account, bag, left.file, left.placement, left.encoded, reason],
  );
}

/** Saved files of a bag in the order of their ids, behind one, at most so many. */
export async function savedFiles(
  db: Queryable,
  account: number,
  bag: number,
  after: number,
  most: number,
): Promise<(SavedFile & { checkedAt: Date | null })[]> {
  return rows(
    db,
    `select file, placement, path, size, encode(sha256, 'hex') as sha256, encoded, checked_at as "checkedAt"
     from bag_file where account = $1 and bag = $2 and file > $3 and reason is null order by file limit $4`,
    [account, bag, after, most],
  );
}

/** Notes of saved files that a copy of them that stays was read back and was equal. */
export async function noteChecked(
  db: Queryable,
  account: number,
  bag: number,
  files: readonly number[],
): Promise<void> {
  await db.query(
    'update bag_file set checked_at = now() where account = $1 and bag = $2 and file = any($3::bigint[]) and reason is null',
    [account, bag, files],
  );
}

/** Of files those that have a checked copy outside the mailbox: the newest of each, and where it is. */
export async function checkedCopies(
  db: Queryable,
  account: number,
  files: readonly number[],
): Promise<Map<number, { sha256: string; size: number; bag: number; folder: string; path: string; place: BagPlace }>> {
  const found = await rows<{
    file: number;
    sha256: string;
    size: number;
    bag: number;
    folder: string;
    path: string;
    place: BagPlace;
  }>(
    db,
    `select distinct on (f.file) f.file, encode(f.sha256, 'hex') as sha256, f.size, f.bag, b.folder, f.path, b.place
     from bag_file f join bag b on b.account = f.account and b.id = f.bag
     where f.account = $1 and f.file = any($2::bigint[]) and f.reason is null and f.checked_at is not null
       and (b.place = 'download' or b.state <> 'erased')
     order by f.file, b.place = 'download', f.checked_at desc`,
    [account, files],
  );
  return new Map(found.map(({ file, ...copy }) => [file, copy]));
}

/** What a set of files comes to. */
export async function amountOfFiles(db: Queryable, account: number, files: Ranges): Promise<FileAmount> {
  return theRow<FileAmount>(
    db,
    `select count(f.id)::int as files, coalesce(sum(f.size), 0)::bigint as bytes from unnest($2::int8multirange) as span
     cross join lateral (select * from file where account = $1 and id >= lower(span) and id < upper(span) offset 0) f`,
    [account, printMultirange(files)],
  );
}
