import type { Amount } from '../../core/level/level';
import { parseMultirange, printMultirange, type Ranges, rangesOf } from '../../core/sets/ranges';
import { type Queryable, row, rows, theRow } from '../database';
import { HELD_FILES } from '../plan/held';
import { type MovedFile, noteGone, noteMoved } from '../space/listing';
import type { LeftReason } from './runs';
import { setDigest } from './set-digest';

/** How the files of a run are named. */
export type FileSelector =
  | { lots: number[] }
  /** What a run brought to the trash and lies there still. */
  | { brought: number }
  /** What another run left. */
  | { rest: number }
  /** All that lies in the trash. */
  | { trash: true };

/**
 * Freezes the files of a run: those that are there as they were named, and are one's own. It is written where it is found; what comes
 * back is its amount and a digest.
 *
 * @param where which files it may touch, by whether they lie in the trash.
 * @param trash the path of the trash; null where there is none.
 */
export async function freezeFiles(
  db: Queryable,
  account: number,
  run: number,
  space: number,
  selector: FileSelector,
  where: 'outside the trash' | 'in the trash' | 'anywhere',
  trash: string | null,
): Promise<{ digest: string } & Amount> {
  const [from, numbers] = namedBy(selector, space);
  return theRow(
    db,
    `with named as materialized (
       select f.id, f.bytes from ${from} where f.gone_at is null and f.space = $3 and not f.shared
         and ($6::text = 'anywhere' or ($6 = 'in the trash') = coalesce(starts_with(f.path, $4::text), false))),
     whole as (
       select coalesce(range_agg(int8range(id, id + 1)), '{}') as files, count(*)::int as messages, coalesce(sum(bytes), 0)::bigint as bytes
       from named)
     update run set space = $3, space_files = whole.files, asked_messages = whole.messages, asked_bytes = whole.bytes
     from whole where run.account = $1 and run.id = $2
     returning asked_messages as messages, asked_bytes as bytes, ${setDigest('run.space_files')} as digest`,
    [account, run, space, trash, numbers, where],
  );
}

/** Files in a set of ranges, each range one descent of an index. */
function filesIn(set: string): string {
  return `lateral unnest(${set}) as span cross join lateral (
    select * from space_file where account = $1 and id >= lower(span) and id < upper(span) offset 0) f`;
}

function namedBy(selector: FileSelector, space: number): [from: string, numbers: number[]] {
  if ('lots' in selector)
    return [
      filesIn(
        `(select range_agg(${HELD_FILES}) from lot where account = $1 and run is null and space = $3 and id = any($5::int[]))`,
      ),
      selector.lots,
    ];
  if ('rest' in selector)
    return [
      filesIn('(select range_agg(members) from run_left where account = $1 and run = any($5::int[]))'),
      [selector.rest],
    ];
  if ('brought' in selector)
    return [
      '(select * from space_file where account = $1 and trashed_by = any($5::int[]) and origin is not null) f',
      [selector.brought],
    ];
  return ['(select * from space_file where account = $1 and space = any($5::int[])) f', [space]];
}

/** The files of a run that nothing has been done with: neither done, nor left, nor sent. */
export async function pendingFiles(db: Queryable, account: number, run: number): Promise<Ranges> {
  const { files } = await theRow<{ files: string }>(
    db,
    `select (r.space_files
       - coalesce((select range_agg(int8range(j.file, j.file + 1)) from run_file j where j.account = $1 and j.run = $2), '{}')
       - coalesce((select range_agg(l.members) from run_left l where l.account = $1 and l.run = $2), '{}'))::text as files
     from run r where r.account = $1 and r.id = $2`,
    [account, run],
  );
  return parseMultirange(files);
}

/** A file of a run as it was frozen. */
export interface RunFile {
  id: number;
  path: string;
  bytes: number;
  etag: string | null;
  modified: Date | null;
  trashedBy: number | null;
  /** Where it lay before it was brought to the trash. */
  origin: string | null;
  /** `changed`: another state of it is there now, as far as the index knows. */
  state: 'there' | 'changed' | 'gone';
}

export async function runFiles(db: Queryable, account: number, ids: readonly number[]): Promise<RunFile[]> {
  return rows<RunFile>(
    db,
    `select f.id, f.path, f.bytes, f.etag, f.modified, f.trashed_by as "trashedBy", f.origin,
       case when f.gone_at is null then 'there'
         when exists (select from space_file o where o.account = $1 and o.space = f.space and o.path_hash = f.path_hash
           and o.gone_at is null) then 'changed'
         else 'gone' end as state
     from unnest($2::bigint[]) as wanted (id) cross join lateral (
       select * from space_file where account = $1 and id = wanted.id offset 0) f order by f.id`,
    [account, ids],
  );
}

/** The smaller picture that a run put at a path, as it was then; undefined where there is none. */
export async function smallerAt(
  db: Queryable,
  account: number,
  space: number,
  path: string,
): Promise<Pick<RunFile, 'id' | 'bytes' | 'etag' | 'modified'> | undefined> {
  return row(
    db,
    `select id, bytes, etag, modified from space_file
     where account = $1 and space = $2 and path_hash = sha256(convert_to($3, 'UTF8')) and gone_at is null and made_by is not null`,
    [account, space, path],
  );
}

/** Has a run make pictures smaller as lots say, or as the run whose rest it is. */
export async function shrinkAs(
  db: Queryable,
  account: number,
  run: number,
  as: { lots: readonly number[] } | { run: number },
): Promise<void> {
  const from =
    'lots' in as
      ? ['(select max(shrinking::text)::jsonb from lot where account = $1 and id = any($3::int[]))', as.lots]
      : ['(select shrinking from run where account = $1 and id = $3)', as.run];
  await db.query(`update run set shrinking = ${from[0]} where account = $1 and id = $2`, [account, run, from[1]]);
}

/** A file that is being sent: as it was when it was looked at, and where it goes; null of a purge. */
export interface SentFile {
  id: number;
  from: string;
  to: string | null;
  bytes: number;
  etag: string | null;
  modified: Date | null;
  /** What takes its place, where it is made smaller. */
  made?: MadeSmaller | null;
}

/** A smaller picture: how many octets, SHA-256 of them in hexadecimal digits, and where they lie until the original has gone. */
export interface MadeSmaller {
  bytes: number;
  sha256: string;
  staged: string;
}

/** Writes down, before anything is sent, what is sent. */
export async function beginFiles(
  db: Queryable,
  account: number,
  run: number,
  files: readonly SentFile[],
): Promise<void> {
  await db.query(
    `insert into run_file (account, run, state, file, from_path, to_path, bytes, etag, modified, made_bytes, made_sha256, staged_path)
     select $1, $2, 'sent', file, from_path, to_path, bytes, etag, modified, made_bytes, decode(made_sha256, 'hex'), staged_path
     from unnest($3::bigint[], $4::text[], $5::text[], $6::bigint[], $7::text[], $8::timestamptz[], $9::bigint[], $10::text[], $11::text[])
       as s (file, from_path, to_path, bytes, etag, modified, made_bytes, made_sha256, staged_path)`,
    [
      ...[account, run],
      files.map(({ id }) => id),
      files.map(({ from }) => from),
      files.map(({ to }) => to),
      files.map(({ bytes }) => bytes),
      files.map(({ etag }) => etag),
      files.map(({ modified }) => modified),
      files.map(({ made }) => made?.bytes ?? null),
      files.map(({ made }) => made?.sha256 ?? null),
      files.map(({ made }) => made?.staged ?? null),
    ],
  );
}

/** What was sent, and of which nobody has written down what became of it. */
export async function sentFiles(db: Queryable, account: number, run: number): Promise<SentFile[]> {
  return rows<SentFile>(
    db,
    `select file as id, from_path as "from", to_path as "to", bytes, etag, modified,
       case when made_bytes is not null then json_build_object(
         'bytes', made_bytes, 'sha256', encode(made_sha256, 'hex'), 'staged', staged_path) end as made from run_file
     where account = $1 and run = $2 and state = 'sent' order by file`,
    [account, run],
  );
}

/** Writes down that files lie elsewhere, or are gone. */
export async function closeFiles(
  db: Queryable,
  account: number,
  run: number,
  space: number,
  moved: readonly MovedFile[],
  gone: readonly number[],
): Promise<void> {
  if (moved.length > 0) await noteMoved(db, account, space, moved);
  if (gone.length > 0) await noteGone(db, account, gone);
  await db.query(
    `with closed as (
       update run_file set state = 'done' where account = $1 and run = $2 and file = any($3::bigint[]) and state = 'sent'
       returning bytes)
     update run set done_messages = done_messages + sum.files, done_bytes = done_bytes + sum.bytes, attempts = 0, problem = null
     from (select count(*)::int as files, coalesce(sum(bytes), 0)::bigint as bytes from closed) sum
     where run.account = $1 and run.id = $2`,
    [account, run, [...moved.map(({ id }) => id), ...gone]],
  );
}

/** Writes down that nothing was done with what was sent: it is pending again. */
export async function reopenFiles(db: Queryable, account: number, run: number, ids: readonly number[]): Promise<void> {
  await db.query(
    `delete from run_file where account = $1 and run = $2 and file = any($3::bigint[]) and state = 'sent'`,
    [account, run, ids],
  );
}

/** Notes that files are left, and why; the same file is left once. */
export async function leaveFiles(
  db: Queryable,
  account: number,
  run: number,
  reason: LeftReason,
  ids: readonly number[],
): Promise<void> {
  if (ids.length === 0) return;
  await reopenFiles(db, account, run, ids);
  await db.query(
    `with new as (
       select $4::int8multirange - coalesce((select range_agg(members) from run_left where account = $1 and run = $2), '{}') as members),
     amount as (
       select count(f.id)::int as files, coalesce(sum(f.bytes), 0)::bigint as bytes from new cross join ${filesIn('new.members')})
     insert into run_left as l (account, run, reason, members, messages, bytes)
     select $1, $2, $3, new.members, amount.files, amount.bytes from new, amount where not isempty(new.members)
     on conflict (account, run, reason) do update
     set members = l.members + excluded.members, messages = l.messages + excluded.messages, bytes = l.bytes + excluded.bytes`,
    [account, run, reason, printMultirange(rangesOf(ids))],
  );
}

/** SHA-256, in hexadecimal, over the files that a run has done: a line each, by number, with the digest of what took its place. */
export async function digestOfFilesDone(db: Queryable, account: number, run: number): Promise<string> {
  const { digest } = await theRow<{ digest: string }>(
    db,
    `select encode(sha256(convert_to(coalesce(string_agg(format('%s %s %s %s', file, bytes, from_path, to_path) || coalesce(' ' || encode(made_sha256, 'hex'), ''), E'\\n' order by file), ''),
       'UTF8')), 'hex') as digest from run_file where account = $1 and run = $2 and state = 'done'`,
    [account, run],
  );
  return digest;
}

/** A file of a run, and what became of it. */
export interface FileOutcome {
  id: number;
  path: string;
  bytes: number;
  /** `done`, `waiting`, or why it was left. */
  outcome: string;
}

/** The files of a run, by number, with what became of each. */
export async function outcomesOfFiles(
  db: Queryable,
  account: number,
  run: number,
  after: number,
  limit: number,
): Promise<FileOutcome[]> {
  return rows<FileOutcome>(
    db,
    `select f.id, coalesce(j.from_path, f.path) as path, f.bytes,
       coalesce(case j.state when 'done' then 'done' end,
         (select l.reason from run_left l where l.account = $1 and l.run = $2 and l.members @> f.id), 'waiting') as outcome
     from (select f.* from run r cross join lateral unnest(r.space_files * int8multirange(int8range($3, null))) as span
       cross join lateral (select * from space_file where account = $1 and id >= lower(span) and (upper(span) is null or id < upper(span)) offset 0) f
       where r.account = $1 and r.id = $2 order by f.id limit $4) f
     left join run_file j on j.account = $1 and j.run = $2 and j.file = f.id order by f.id`,
    [account, run, after + 1, limit],
  );
}

/** The folder in the trash into which a run brings its files; null where none was chosen yet. */
export async function trashFolderOf(db: Queryable, account: number, run: number): Promise<string | null> {
  const { folder } = await theRow<{ folder: string | null }>(
    db,
    'select trash_folder as folder from run where account = $1 and id = $2',
    [account, run],
  );
  return folder;
}

export async function saveTrashFolder(db: Queryable, account: number, run: number, folder: string): Promise<void> {
  await db.query('update run set trash_folder = $3 where account = $1 and id = $2', [account, run, folder]);
}
