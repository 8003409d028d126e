import { randomBytes } from 'node:crypto';
import type { MessagePlace } from '../../core/archive/message-place';
import type { Quoting } from '../../core/brought/quoting';
import { WHOLE_MESSAGE } from '../../core/files/file';
import type { RunState } from '../../core/ledger/run-state';
import type { Amount } from '../../core/level/level';
import { parseMultirange, printMultirange, type Ranges } from '../../core/sets/ranges';
import { fold } from '../../core/text';
import { nextNumber } from '../access/accounts';
import { type Queryable, row, rows, theRow } from '../database';
import { unpacked } from '../index/packed';
import { placementsIn, placementsOf } from '../index/spans';

export type BagPlace = 'here' | 'download';
export type BagState =
  /** What is brought in comes in. */
  | 'receiving'
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

/** Each file by itself, or messages in mbox files (RFC 4155), one or more for each folder. */
export type BagForm = 'files' | 'mbox';

/** A bag of files or of mail. */
export interface Bag {
  id: number;
  label: string;
  form: BagForm;
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
  /** Until when what was made ready for a download lies on this machine; null of all else. */
  keptUntil: Date | null;
  /** What is not any more what was saved, in octets on the disk; and which manifests. */
  damaged: FileAmount;
  tagsDamaged: string[];
  /** While it is read again, how many files were; else null. */
  readAgain: number | null;
  /** Somebody wants it read again, and that has not begun. */
  isReadAsked: boolean;
  /** What has no checked copy elsewhere, in octets on the disk. */
  onlyHere: FileAmount;
  /** The day before which nobody can delete it, and why. */
  heldUntil: string | null;
  heldReason: string | null;
  /** The run that archives its messages, and what it brought to the trash; null of one that leaves the mailbox as it is. */
  run: { id: number; state: RunState; done: Amount } | null;
  /** The file that was saved elsewhere and is brought in; null of what was saved from the mailbox. */
  brought: BroughtSource | null;
}

/** A file that is brought in, and what was found in it. */
export interface BroughtSource {
  name: string;
  /** Octets, and how many of them are here. */
  size: number;
  received: number;
  format: 'mbox' | 'tar' | 'zip' | 'message' | null;
  quoting: Quoting | null;
  /** How much of it was gone through, from 0 to 1. */
  done: number;
  /** Files in it that are no mail, and messages of which something is missing or can't be read. */
  passed: number;
  flawed: number;
}

/** Days for which what was made ready for a download lies on this machine. */
const DOWNLOAD_DAYS = 7;
const KEPT_UNTIL = `case when place = 'download' and state = 'done' then ended_at + interval '${DOWNLOAD_DAYS} days' end`;

/** What is counted of the files of a bag, all at once: there may be a hundred thousand. */
const COUNTED = `cross join lateral (
  select ${[
    ['saved', 'f.reason is null'],
    ['checked', 'f.checked_at is not null'],
    ['damaged', 'f.damaged_at is not null'],
    ['uncopied', 'f.reason is null and f.copied_at is null'],
  ]
    .map(
      ([name, condition]) => `json_build_object('files', count(*) filter (where ${condition}),
    'bytes', coalesce(sum(f.size) filter (where ${condition}), 0)) as ${name}`,
    )
    .join(', ')},
    count(*) filter (where f.checked_at >= bag.reading_since)::int as reread
  from bag_file f where f.account = bag.account and f.bag = bag.id) counted`;

const COLUMNS = `id, label, form, place, folder, state, json_build_object('files', asked_files, 'bytes', asked_bytes) as asked,
  counted.saved, counted.checked, counted.damaged,
  coalesce((select json_agg(json_build_object('reason', l.reason, 'files', l.files, 'bytes', l.bytes) order by l.reason) from (
    select f.reason, count(*) as files, coalesce(sum(f.encoded), 0) as bytes from bag_file f
    where f.account = bag.account and f.bag = bag.id and f.reason is not null group by f.reason) l), '[]') as left,
  wanted, attempts, problem, created_at as "createdAt", ended_at as "endedAt", checked_at as "checkedAt",
  ${KEPT_UNTIL} as "keptUntil", tags_damaged as "tagsDamaged", held_until::text as "heldUntil", held_reason as "heldReason", read_asked as "isReadAsked",
  case when reading_since is not null then counted.reread end as "readAgain",
  case when form = 'files' then counted.uncopied else (
    select json_build_object('files', coalesce(sum(c.messages), 0), 'bytes', coalesce(sum(c.octets), 0)) from bag_part c
    where c.account = bag.account and c.bag = bag.id and c.copied_at is null)
  end as "onlyHere",
  (select json_build_object('id', r.id, 'state', r.state, 'done', json_build_object('messages', r.done_messages, 'bytes', r.done_bytes))
   from run r where r.account = bag.account and r.bag = bag.id) as run,
  (select json_build_object('name', u.name, 'size', u.size, 'received', u.received, 'format', u.format, 'quoting', u.quoting,
     'done', u.done, 'passed', u.passed, 'flawed', (
       select count(*) from brought_message i where i.account = bag.account and i.bag = bag.id and i.flawed))
   from brought u where u.account = bag.account and u.bag = bag.id) as brought`;

/** The oldest bag that lies here for a download, and does so longer than it should; kept from others until the transaction is over. */
export async function overdueDownload(
  client: Queryable,
): Promise<{ account: number; id: number; folder: string } | undefined> {
  return row(
    client,
    `select account, id, folder from bag where ${KEPT_UNTIL} < now() order by ended_at limit 1 for update skip locked`,
  );
}

export async function bagsOf(db: Queryable, account: number): Promise<Bag[]> {
  return rows<Bag>(db, `select ${COLUMNS} from bag ${COUNTED} where account = $1 order by id desc`, [account]);
}

export async function bagById(db: Queryable, account: number, id: number): Promise<Bag | undefined> {
  return row<Bag>(db, `select ${COLUMNS} from bag ${COUNTED} where account = $1 and id = $2`, [account, id]);
}

/** What a bag is to hold, as f (id, part, name, type, encoding, size): files, and whole messages by the number kept for them. */
const WANTED = `bag b cross join lateral unnest(b.files) as span cross join lateral (
    select id, part, name, type, encoding, size from file where account = $1 and id >= lower(span) and id < upper(span)
    union all
    select id * 512 + ${WHOLE_MESSAGE}, '', coalesce(nullif(subject, ''), 'message') || '.eml', 'message/rfc822', '8bit', coalesce((
      select size from placement where account = $1 and message = message.id and gone_at is null order by id limit 1), 0)
    from message where account = $1 and id >= lower(span) / 512 and id < upper(span) / 512
    offset 0) f`;

/**
 * Makes a bag that is to hold files; gives its number.
 *
 * @param folder what its folder is called, before its number and what no other has: an index that was restored from a backup
 *   gives numbers again.
 */
export async function createBag(
  db: Queryable,
  account: number,
  bag: { label: string; form: BagForm; place: BagPlace; folder: string; files: Ranges },
): Promise<number> {
  const id = await nextNumber(db, account, 'bag');
  await db.query(
    `insert into bag (account, id, label, form, place, folder, files, asked_files, asked_bytes)
     values ($1, $2, $3, $4, $5, $6, $7::int8multirange, 0, 0)`,
    [
      account,
      id,
      bag.label,
      bag.form,
      bag.place,
      `${bag.folder}-${id}-${randomBytes(3).toString('hex')}`,
      printMultirange(bag.files),
    ],
  );
  await db.query(
    `update bag set asked_files = wanted.files, asked_bytes = wanted.bytes from (
       select count(f.id)::int as files, coalesce(sum(f.size), 0)::bigint as bytes from ${WANTED}
       where b.account = $1 and b.id = $2) wanted
     where bag.account = $1 and bag.id = $2`,
    [account, id],
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

/** Holds a bag: nobody can delete it before a day. */
export async function holdBag(
  db: Queryable,
  account: number,
  id: number,
  { until, reason }: { until: string; reason: string },
): Promise<void> {
  await db.query('update bag set held_until = $3::date, held_reason = $4 where account = $1 and id = $2', [
    account,
    id,
    until,
    reason,
  ]);
}

/** Whether a bag is held now. */
export async function isHeld(db: Queryable, account: number, id: number): Promise<boolean> {
  const { held } = await theRow<{ held: boolean }>(
    db,
    'select coalesce(held_until > current_date, false) as held from bag where account = $1 and id = $2',
    [account, id],
  );
  return held;
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
  uid: number;
  /** '' for the whole message. */
  part: string;
  name: string;
  type: string;
  encoding: string;
  /** Encoded octets, as the structure says. */
  size: number;
  date: Date;
  author: string;
  /** Of the author; '' where there is none. */
  address: string;
  received: Date;
  /** The path of its folder. */
  folder: string;
}

/**
 * What of a bag was not dealt with, by folder and UID: the ids of its files, and of placements of their messages, in two rows
 * of the same length. Of a message in several folders one place is enough. What is nowhere any more is not among them.
 */
export async function pendingFiles(
  db: Queryable,
  account: number,
  bag: number,
): Promise<{ files: ArrayLike<number>; placements: ArrayLike<number> }> {
  // What was dealt with is looked up file by file: a planner that takes it for little would compare all with all.
  const packed = await theRow<{ files: Buffer | null; placements: Buffer | null }>(
    db,
    `select string_agg(float8send(file::float8), ''::bytea) as files,
       string_agg(float8send(placement::float8), ''::bytea) as placements
     from (
       select f.id as file, p.id as placement from ${WANTED}
       cross join lateral (
         select id, folder, uid from placement where account = $1 and message = f.id / 512 and gone_at is null order by id limit 1) p
       where b.account = $1 and b.id = $2
         and (select d.file from bag_file d where d.account = $1 and d.bag = $2 and d.file = f.id) is null
       order by p.folder, p.uid, f.id) pending`,
    [account, bag],
  );
  return { files: unpacked(packed.files, 8), placements: unpacked(packed.placements, 8) };
}

/** Files that a bag is to hold, in the order given; without those whose placement is gone by now. */
export async function filesAtPlacements(
  db: Queryable,
  account: number,
  files: readonly number[],
  placements: readonly number[],
): Promise<PendingFile[]> {
  return rows<PendingFile>(
    db,
    `select w.file, p.id as placement, p.generation, p.uid, f.part, f.name, f.type, f.encoding, f.size,
       coalesce(m.sent, p.received) as date, coalesce(nullif(m.from_name, ''), m.from_address) as author,
       m.from_address as address, p.received, d.path as folder
     from unnest($2::bigint[], $3::bigint[]) with ordinality as w (file, placement, place)
     cross join lateral (
       select * from placement where account = $1 and id = w.placement and gone_at is null offset 0) p
     cross join lateral (select * from message where account = $1 and id = w.file / 512 offset 0) m
     cross join lateral (select path from folder where account = $1 and id = p.folder offset 0) d
     cross join lateral (
       select part, name, type, encoding, size from file where account = $1 and id = w.file
       union all
       select '', coalesce(nullif(m.subject, ''), 'message') || '.eml', 'message/rfc822', '8bit', p.size
       where w.file % 512 = ${WHOLE_MESSAGE} offset 0) f
     order by w.place`,
    [account, files, placements],
  );
}

/** Notes of all that a bag was to hold, and that was not dealt with, why it is not in it. */
export async function leaveRestOfBag(
  db: Queryable,
  account: number,
  bag: number,
  reason: 'vanished' | 'cancelled',
): Promise<void> {
  await db.query(
    `insert into bag_file (account, bag, file, placement, encoded, reason)
     select $1, $2, f.id, 0, f.size, $3 from ${WANTED} where b.account = $1 and b.id = $2
     on conflict do nothing`,
    [account, bag, reason],
  );
}

/** Notes of all files of a bag that it was never whole: what was saved of it is gone. */
export async function cancelFilesOfBag(db: Queryable, account: number, bag: number): Promise<void> {
  await db.query(
    `update bag_file set reason = 'cancelled', path = '', path_key = null, checked_at = null, at = null, length = null
     where account = $1 and bag = $2 and reason is null`,
    [account, bag],
  );
  await leaveRestOfBag(db, account, bag, 'cancelled');
}

/** Which of paths of a bag are taken, in any letter case; folded. */
export async function takenPaths(
  db: Queryable,
  account: number,
  bag: number,
  paths: readonly string[],
): Promise<Set<string>> {
  const found = await rows<{ key: string }>(
    db,
    'select path_key as key from bag_file where account = $1 and bag = $2 and path_key = any($3::text[])',
    [account, bag, paths.map(fold)],
  );
  return new Set(found.map(({ key }) => key));
}

/** Whether a bag has a file of exactly this path. */
export async function hasPath(db: Queryable, account: number, bag: number, path: string): Promise<boolean> {
  const found = await row(
    db,
    'select 1 from bag_file where account = $1 and bag = $2 and path_key = $3 and path = $4 and reason is null',
    [account, bag, fold(path), path],
  );
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
  /** Of a message in an mbox file, where it begins there and how many octets it takes. */
  at?: number | null;
  length?: number | null;
}

export async function addSavedFiles(
  db: Queryable,
  account: number,
  bag: number,
  saved: readonly SavedFile[],
): Promise<void> {
  await db.query(
    `insert into bag_file (account, bag, file, placement, path, path_key, size, sha256, encoded, at, length)
     select $1, $2, file, placement, path, path_key, size, decode(sha256, 'hex'), encoded, at, length
     from unnest($3::bigint[], $4::bigint[], $5::text[], $6::text[], $7::bigint[], $8::text[], $9::bigint[],
       $10::bigint[], $11::bigint[]) as saved (file, placement, path, path_key, size, sha256, encoded, at, length)`,
    [
      account,
      bag,
      saved.map(({ file }) => file),
      saved.map(({ placement }) => placement),
      saved.map(({ path }) => path),
      // Many messages are in one mbox file.
      saved.map(({ path, at }) => (at == null ? fold(path) : null)),
      saved.map(({ size }) => size),
      saved.map(({ sha256 }) => sha256),
      saved.map(({ encoded }) => encoded),
      saved.map(({ at }) => at ?? null),
      saved.map(({ length }) => length ?? null),
    ],
  );
}

/** Why a file is not in a bag. */
export interface LeftFile {
  file: number;
  placement: number;
  encoded: number;
  reason: UnsavedReason;
}

/** Notes why files of a bag were not saved, or that saved ones did not read back as they were. */
export async function leaveFiles(
  db: Queryable,
  account: number,
  bag: number,
  left: readonly LeftFile[],
): Promise<void> {
  await db.query(
    `insert into bag_file (account, bag, file, placement, encoded, reason)
     select $1, $2, file, placement, encoded, reason
     from unnest($3::bigint[], $4::bigint[], $5::bigint[], $6::text[]) as unsaved (file, placement, encoded, reason)
     on conflict (account, bag, file) do update set reason = excluded.reason, path_key = null, checked_at = null,
       path = case when bag_file.at is null then '' else bag_file.path end`,
    [
      account,
      bag,
      left.map(({ file }) => file),
      left.map(({ placement }) => placement),
      left.map(({ encoded }) => encoded),
      left.map(({ reason }) => reason),
    ],
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

/** The mbox files of a bag, and how many octets of each hold messages that were noted. */
export async function mboxesOf(db: Queryable, account: number, bag: number): Promise<Map<string, number>> {
  const found = await rows<{ path: string; octets: number }>(
    db,
    `select path, max(at + length) as octets from bag_file
     where account = $1 and bag = $2 and at is not null group by path order by path`,
    [account, bag],
  );
  return new Map(found.map(({ path, octets }) => [path, octets]));
}

/** Notes the digest of an mbox file of a bag. */
export async function notePart(
  db: Queryable,
  account: number,
  bag: number,
  { path, size, sha256 }: Pick<SavedFile, 'path' | 'size' | 'sha256'>,
): Promise<void> {
  await db.query(
    `insert into bag_part (account, bag, path, size, sha256) values ($1, $2, $3, $4, decode($5, 'hex'))
     on conflict (account, bag, path) do update set size = excluded.size, sha256 = excluded.sha256`,
    [account, bag, path, size, sha256],
  );
}

/** The mbox files of a bag with their digests, in the order of their paths. */
export async function partsOf(
  db: Queryable,
  account: number,
  bag: number,
): Promise<{ path: string; size: number; sha256: string }[]> {
  return rows(
    db,
    `select path, size, encode(sha256, 'hex') as sha256 from bag_part where account = $1 and bag = $2 order by path`,
    [account, bag],
  );
}

/** A message in an mbox file of a bag, as its index says (RFC 4155 tells none of it but its author). */
export interface BaggedMessage {
  file: number;
  placement: number;
  path: string;
  at: number;
  length: number;
  size: number;
  sha256: string;
  encoded: number;
  checkedAt: Date | null;
  /** It did not read back as it was. */
  reason: UnsavedReason | null;
  folder: string;
  uid: number;
  uidValidity: number;
  received: Date;
  flags: number;
  keywords: string[];
  messageId: string;
  from: string;
  subject: string;
}

/** Messages of an mbox file of a bag in their order, from a place on, at most so many. */
export async function baggedMessages(
  db: Queryable,
  account: number,
  bag: number,
  path: string,
  from: number,
  most: number,
): Promise<BaggedMessage[]> {
  return rows<BaggedMessage>(
    db,
    `select s.file, s.placement, s.path, s.at, s.length, s.size, encode(s.sha256, 'hex') as sha256, s.encoded,
       s.checked_at as "checkedAt", s.reason, o.*, m.message_id as "messageId", m.from_address as "from", m.subject
     from (select * from bag_file where account = $1 and bag = $2 and path = $3 and at >= $4 order by at limit $5) s
     cross join lateral (
       select d.path as folder, p.uid, g.uid_validity as "uidValidity", p.received, p.flags, p.keywords from placement p
       join generation g on g.account = p.account and g.id = p.generation
       join folder d on d.account = p.account and d.id = p.folder where p.account = $1 and p.id = s.placement
       union all
       select folder, 0, 0, received, flags, keywords from brought_message where account = $1 and bag = $2 and file = s.file
       offset 0) o
     cross join lateral (select * from message where account = $1 and id = s.file / 512 offset 0) m
     order by s.at`,
    [account, bag, path, from, most],
  );
}

/** Files of a bag that are not in it, and why, in the order of their ids, behind one, at most so many. */
export async function unsavedFiles(
  db: Queryable,
  account: number,
  bag: number,
  after: number,
  most: number,
): Promise<{ file: number; encoded: number; reason: UnsavedReason }[]> {
  return rows(
    db,
    `select file, encoded, reason from bag_file
     where account = $1 and bag = $2 and file > $3 and reason is not null order by file limit $4`,
    [account, bag, after, most],
  );
}

/** What a copy that was handed in comes to: files that are equal, the paths of those that are not, and paths that the bag has not. */
export interface CopyCheck {
  checked: number;
  differs: string[];
  unknown: string[];
}

/**
 * Compares a copy of files of a bag by its SHA-256. Of one that stays here those that are equal have a copy elsewhere from then on;
 * of one that is downloaded they count as checked.
 */
export async function checkHandedIn(
  db: Queryable,
  account: number,
  { id: bag, place }: Pick<Bag, 'id' | 'place'>,
  handedIn: readonly { path: string; sha256: string }[],
): Promise<CopyCheck> {
  const found = await rows<{ path: string; file: number | null; part: string | null; equal: boolean | null }>(
    db,
    `select h.path, f.file, c.path as part, encode(coalesce(f.sha256, c.sha256), 'hex') = h.sha256 as equal
     from unnest($3::text[], $4::text[], $5::text[]) as h (path, key, sha256)
     left join bag_file f on f.account = $1 and f.bag = $2 and f.reason is null and f.path_key = h.key and f.path = h.path
     left join bag_part c on c.account = $1 and c.bag = $2 and c.path = h.path
     order by h.path`,
    [
      account,
      bag,
      handedIn.map(({ path }) => path),
      handedIn.map(({ path }) => fold(path)),
      handedIn.map(({ sha256 }) => sha256),
    ],
  );
  const known = found.filter(({ file, part }) => file !== null || part !== null);
  const equal = known.filter((one) => one.equal);
  const files = equal.flatMap(({ file }) => (file === null ? [] : [file]));
  const parts = equal.flatMap(({ part }) => (part === null ? [] : [part]));
  // What is made ready for a download has no other copy that stays.
  if (place === 'download') await noteChecked(db, account, bag, files);
  else await noteCopied(db, account, bag, files, parts);
  return {
    checked: equal.length,
    differs: known.flatMap((one) => (one.equal ? [] : [one.path])),
    unknown: found.flatMap(({ path, file, part }) => (file === null && part === null ? [path] : [])),
  };
}

/** Notes of files by themselves, and of mbox files, that there is a checked copy of them elsewhere. */
async function noteCopied(
  db: Queryable,
  account: number,
  bag: number,
  files: readonly number[],
  parts: readonly string[],
): Promise<void> {
  await db.query(
    'update bag_file set copied_at = now() where account = $1 and bag = $2 and file = any($3::bigint[]) and reason is null',
    [account, bag, files],
  );
  await db.query('update bag_part set copied_at = now() where account = $1 and bag = $2 and path = any($3::text[])', [
    account,
    bag,
    parts,
  ]);
}

/** Notes of saved files that a copy of them that stays was read back and was equal. */
export async function noteChecked(
  db: Queryable,
  account: number,
  bag: number,
  files: readonly number[],
): Promise<void> {
  await db.query(
    `update bag_file set checked_at = now(), damaged_at = null
     where account = $1 and bag = $2 and file = any($3::bigint[]) and reason is null`,
    [account, bag, files],
  );
}

/**
 * Whether a saved file c of a bag b has a copy outside the mailbox, and whether one that was checked. What somebody has on a
 * computer of their own stays when the bag is deleted here.
 */
export const IS_COPY = `c.reason is null and (b.state <> 'erased' or (b.place = 'download' and c.checked_at is not null))`;
export const IS_CHECKED_COPY = `c.checked_at is not null and ${IS_COPY}`;

/** The files of a bag of which a checked copy is there. */
export async function checkedFilesOf(db: Queryable, account: number, bag: number): Promise<number[]> {
  const found = await rows<{ file: number }>(
    db,
    `select c.file from bag_file c join bag b on b.account = c.account and b.id = c.bag
     where c.account = $1 and c.bag = $2 and ${IS_CHECKED_COPY} order by c.file`,
    [account, bag],
  );
  return found.map(({ file }) => file);
}

/** A copy of a file outside the mailbox that was read back and was equal. */
export interface CheckedCopy {
  sha256: string;
  /** Decoded octets. */
  size: number;
  bag: number;
  folder: string;
  path: string;
  place: BagPlace;
}

/**
 * Of files those that have a checked copy outside the mailbox, of themselves or of one that was found to have the same octets: the newest
 * of each, and where it is.
 */
export async function checkedCopies(
  db: Queryable,
  account: number,
  files: readonly number[],
): Promise<Map<number, CheckedCopy>> {
  const found = await rows<CheckedCopy & { file: number }>(
    db,
    `with wanted as materialized (
       select file, sha256 from unnest($2::bigint[]) as one (file)
       left join lateral (select sha256 from file_digest where account = $1 and file = one.file) d on true),
     copy as (
       select w.file as wanted, c.* from wanted w
       cross join lateral (select * from bag_file where account = $1 and file = w.file and reason is null offset 0) c
       union all
       select w.file, c.* from wanted w
       cross join lateral (select * from bag_file where account = $1 and sha256 = w.sha256 and reason is null and file <> w.file offset 0) c)
     select distinct on (c.wanted) c.wanted as file, encode(c.sha256, 'hex') as sha256, c.size, c.bag, b.folder, c.path, b.place
     from copy c join bag b on b.account = c.account and b.id = c.bag where ${IS_CHECKED_COPY}
     order by c.wanted, c.file <> c.wanted, b.place = 'download', c.checked_at desc`,
    [account, files],
  );
  return new Map(found.map(({ file, ...copy }) => [file, copy]));
}

/** A copy of a message in the archive of this machine. */
export interface ArchivedCopy extends MessagePlace {
  bag: number;
  /** Of the bag. */
  folder: string;
  sha256: string;
}

/** A copy c in a bag b was read back and lies in the archive of this machine. */
const IS_IN_ARCHIVE = `c.reason is null and c.checked_at is not null and b.place = 'here' and b.state <> 'erased'`;
/** It does, and has not been damaged since. */
export const IS_WHOLE_COPY = `${IS_IN_ARCHIVE} and c.damaged_at is null`;

/** A checked copy c of a whole message that lies in the archive of this machine. */
const IN_ARCHIVE = (message: string) => `from bag_file c join bag b on b.account = c.account and b.id = c.bag
  where c.account = $1 and c.file = ${message} * 512 + ${WHOLE_MESSAGE} and ${IS_IN_ARCHIVE}`;

/** Whole messages of the mailbox in some folders, as what a bag is to hold. */
export async function wholeMessagesIn(db: Queryable, account: number, folders: readonly number[]): Promise<Ranges> {
  const { files } = await theRow<{ files: string }>(
    db,
    `select coalesce(range_agg(int8range(message * 512 + ${WHOLE_MESSAGE}, message * 512 + ${WHOLE_MESSAGE + 1})), '{}')::text as files
     from placement where account = $1 and gone_at is null and folder = any($2::int[])`,
    [account, folders],
  );
  return parseMultirange(files);
}

/** Of placements those whose message has a checked copy in the archive of this machine: of each one in that bag, else the newest. */
export async function archivedCopies(
  db: Queryable,
  account: number,
  placements: readonly number[],
  bag: number | null,
): Promise<Map<number, ArchivedCopy>> {
  const found = await rows<ArchivedCopy & { id: number }>(
    db,
    `select p.id, copy.* from ${placementsOf('$2::bigint[]')} cross join lateral (
       select c.bag, b.folder, c.path, c.at, c.length, c.size, encode(c.sha256, 'hex') as sha256 ${IN_ARCHIVE('p.message')}
       order by c.bag = $3 desc, c.bag desc limit 1) copy`,
    [account, placements, bag],
  );
  return new Map(found.map(({ id, ...copy }) => [id, copy]));
}

/** The members of a run that have no checked copy in the archive of this machine, as what a bag is to hold. */
export async function unarchivedOf(db: Queryable, account: number, run: number): Promise<Ranges> {
  const { files } = await theRow<{ files: string }>(
    db,
    `select coalesce(range_agg(int8range(p.message * 512 + ${WHOLE_MESSAGE}, p.message * 512 + ${WHOLE_MESSAGE + 1})), '{}')::text as files
     from run r cross join ${placementsIn('r.members')}
     where r.account = $1 and r.id = $2 and not exists (select 1 ${IN_ARCHIVE('p.message')})`,
    [account, run],
  );
  return parseMultirange(files);
}

/** What the index of a bag says of a file (core/archive). */
export interface IndexedFile extends SavedFile {
  part: string;
  name: string;
  type: string;
  folder: string;
  uid: number;
  uidValidity: number;
  received: Date;
  messageId: string;
  from: string;
  subject: string;
}

/** Saved files of a bag with their messages, in the order of their ids, behind one, at most so many. */
export async function indexedFiles(
  db: Queryable,
  account: number,
  bag: number,
  after: number,
  most: number,
): Promise<IndexedFile[]> {
  return rows<IndexedFile>(
    db,
    `select s.file, s.placement, s.path, s.size, encode(s.sha256, 'hex') as sha256, s.encoded, coalesce(f.part, '') as part,
       coalesce(f.name, '') as name, coalesce(f.type, 'message/rfc822') as type, d.path as folder, p.uid,
       g.uid_validity as "uidValidity", p.received, m.message_id as "messageId", m.from_address as "from", m.subject
     from bag_file s
     join placement p on p.account = s.account and p.id = s.placement
     join generation g on g.account = s.account and g.id = p.generation
     join folder d on d.account = s.account and d.id = p.folder
     join message m on m.account = s.account and m.id = s.file / 512
     left join file f on f.account = s.account and f.id = s.file
     where s.account = $1 and s.bag = $2 and s.file > $3 and s.reason is null order by s.file limit $4`,
    [account, bag, after, most],
  );
}
