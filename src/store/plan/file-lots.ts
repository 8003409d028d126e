import { kindNumber } from '../../core/files/kinds';
import type { Shrinking } from '../../core/files/shrinking';
import { bitsOfRanges } from '../../core/plan/bits';
import { FileRows } from '../../core/plan/file-rows';
import { lotSet, planFigures } from '../../core/plan/plan';
import { countOf, parseMultirange, printMultirange, type Ranges, rangesOf } from '../../core/sets/ranges';
import { type Account, nextNumber } from '../access/accounts';
import { type Queryable, row, rows, theRow } from '../database';
import { unpacked } from '../index/packed';
import type { FileAmount, FileSpace, PicturedAmount } from '../space/spaces';
import { trashOf } from '../space/trash';
import { HELD_FILES } from './held';

/** What happens to the files of a lot: they go to the trash of their file space, are deleted, or a smaller picture takes their place. */
export const FILE_FATES = ['trash', 'purge', 'shrink'] as const;
export type FileFate = (typeof FILE_FATES)[number];

export type FilePromise = 'pictures' | 'mail';

/** A lot of files of a file space. */
export interface FileLot extends FileAmount {
  id: number;
  space: number;
  label: string;
  fate: FileFate;
  /** How pictures are made smaller; the octets are then about what that wins. */
  shrinking: Shrinking | null;
  createdAt: Date;
  excepted: number;
  /** Files that went, or changed, since they were marked. */
  vanished: number;
  /** What it adds to the lots before it, and what no other lot holds. */
  adds: FileAmount;
  only: FileAmount;
}

/** The lots of files in the plan, in the order in which they run and count, and their union. */
export interface FilePlan {
  lots: FileLot[];
  total: FileAmount;
  /** Of the union in each file space, what does not lie in the trash already. */
  outsideTrash: Map<number, PicturedAmount>;
}

export async function filePlanOf(db: Queryable, account: number): Promise<FilePlan> {
  const stored = await rows<
    Pick<FileLot, 'id' | 'space' | 'label' | 'fate' | 'shrinking' | 'createdAt' | 'excepted'> & { held: string }
  >(
    db,
    `select id, space, label, fate, shrinking, created_at as "createdAt", ${HELD_FILES}::text as held,
       (select coalesce(sum(upper(span) - lower(span)), 0)::int from unnest(excepted) span) as excepted
     from lot where account = $1 and run is null and space is not null
     order by array_position(array['purge', 'trash', 'shrink'], fate), place, id`,
    [account],
  );
  if (stored.length === 0) return { lots: [], total: NOTHING, outsideTrash: new Map() };
  const packed = await theRow<Record<'ids' | 'sizes' | 'spaces' | 'pictures', Buffer | null>>(
    db,
    `with plan as materialized (
       select range_agg(${HELD_FILES}) as files from lot where account = $1 and run is null and space is not null)
     select string_agg(float8send(id::float8), ''::bytea) as ids, string_agg(float8send(bytes::float8), ''::bytea) as sizes,
       string_agg(int4send(outside), ''::bytea) as spaces, string_agg(int4send(picture), ''::bytea) as pictures
     from (select f.id, f.bytes, (f.kind = $2)::int as picture, case when starts_with(f.path, s.trash) then 0 else f.space end as outside
           from plan cross join lateral unnest(plan.files) as span cross join lateral (
             select * from space_file where account = $1 and id >= lower(span) and id < upper(span) offset 0) f
           join space s on s.account = $1 and s.id = f.space
           where f.gone_at is null order by f.id) live`,
    [account, kindNumber('picture')],
  );
  const ids = unpacked(packed.ids, 8) as Float64Array;
  const sizes = unpacked(packed.sizes, 8) as Float64Array;
  const spaces = unpacked(packed.spaces, 4) as Int32Array;
  const isPicture = unpacked(packed.pictures, 4) as Int32Array;
  const held = stored.map((lot) => parseMultirange(lot.held));
  const lots = stored.map(({ shrinking }, at) => ({ files: bitsOfRanges(held[at] as Ranges, ids), shrinking }));
  const fileRows = new FileRows(sizes, lots);
  const figures = planFigures(
    lots.map((lot) => lotSet(fileRows.rowsOf(lot), fileRows.sizes, fileRows.count)),
    fileRows.sizes,
    fileRows.count,
  );
  const won = fileRows.won(lots);
  const outsideTrash = new Map<number, PicturedAmount>();
  for (const [at, space] of spaces.entries()) {
    if (space === 0) continue;
    const { files, bytes, pictureBytes } = outsideTrash.get(space) ?? { ...NOTHING, pictureBytes: 0 };
    const size = won[at] as number;
    outsideTrash.set(space, {
      files: files + 1,
      bytes: bytes + size,
      pictureBytes: pictureBytes + (isPicture[at] === 1 ? size : 0),
    });
  }
  return {
    lots: stored.map(({ held: _, ...lot }, index) => {
      const { own, adds, only } = figures.lots[index] as (typeof figures.lots)[number];
      const vanished = countOf(held[index] as Ranges) - own.messages;
      return { ...lot, ...inFiles(own), vanished, adds: inFiles(adds), only: inFiles(only) };
    }),
    total: inFiles(figures.total),
    outsideTrash,
  };
}

const NOTHING: FileAmount = { files: 0, bytes: 0 };

/** The rows that lots are compared over are files here. */
function inFiles({ messages, bytes }: { messages: number; bytes: number }): FileAmount {
  return { files: messages, bytes };
}

/** Some files, or all in a folder, by its path, and below it. */
export type NamedFiles = { ids: readonly number[] } | { folder: string };

export interface NewFileLot {
  label: string;
  fate: FileFate;
  named: NamedFiles;
  /** For the fate `shrink`. */
  shrinking?: Shrinking | null;
  /** What it promises to stay of all that it takes: a picture nearly alike, or the same file in a message. */
  promise?: FilePromise | null;
}

/**
 * Marks files of a file space as they are now: none that others share, and for the trash none that lies there.
 *
 * @returns the number of the lot; undefined where nothing can be marked.
 */
export async function createFileLot(
  db: Queryable,
  account: Account,
  space: FileSpace,
  { label, fate, named, shrinking = null, promise = null }: NewFileLot,
): Promise<number | undefined> {
  const trash = await trashOf(db, account.id, space);
  const [from, value] =
    'ids' in named
      ? [
          `unnest($3::bigint[]) as wanted (id) cross join lateral (
             select * from space_file where account = $1 and id = wanted.id offset 0) f where f.space = $2`,
          named.ids,
        ]
      : ['space_file f where f.account = $1 and f.space = $2 and starts_with(f.path, $3::text)', named.folder];
  const { files } = await theRow<{ files: string }>(
    db,
    `select coalesce(range_agg(int8range(f.id, f.id + 1)), '{}')::text as files
     from ${from} and f.gone_at is null and not f.shared
       and ($5 = 'purge' or not coalesce(starts_with(f.path, $4::text), false))
       and ($5 <> 'shrink' or f.kind = ${kindNumber('picture')})`,
    [account.id, space.id, value, trash, fate],
  );
  if (files === '{}') return undefined;
  const id = await nextNumber(db, account.id, 'lot');
  await db.query(
    `insert into lot (account, id, place, label, fate, members, space, space_files, promise, shrinking)
     select $1, $2, coalesce((select max(place) from lot where account = $1), 0) + 1, $3, $4, '{}', $5, $6::int8multirange, $7, $8`,
    [account.id, id, label, fate, space.id, files, promise, shrinking && JSON.stringify(shrinking)],
  );
  return id;
}

/** A lot of files in the plan. */
export async function fileLotById(
  db: Queryable,
  account: number,
  lot: number,
): Promise<Pick<FileLot, 'id' | 'space' | 'label' | 'fate' | 'shrinking'> | undefined> {
  return row(
    db,
    'select id, space, label, fate, shrinking from lot where account = $1 and id = $2 and run is null and space is not null',
    [account, lot],
  );
}

/** Excepts more files from a lot, and takes others in again. */
export async function exceptFiles(
  db: Queryable,
  account: number,
  lot: number,
  also: readonly number[],
  takenIn: readonly number[],
): Promise<void> {
  await db.query(
    `update lot set excepted = (excepted + $3::int8multirange) * space_files - $4::int8multirange
     where account = $1 and id = $2 and run is null and space is not null`,
    [account, lot, printMultirange(rangesOf(also)), printMultirange(rangesOf(takenIn))],
  );
}

/** A file of a lot, and whether it was excepted. */
export interface LotFile {
  id: number;
  path: string;
  name: string;
  bytes: number;
  modified: Date | null;
  excepted: boolean;
}

/** The files of a lot that are there, the largest first. */
export async function filesOfLot(
  db: Queryable,
  account: number,
  lot: number,
  page: { limit: number; after?: { bytes: number; id: number } | undefined },
): Promise<LotFile[]> {
  return rows<LotFile>(
    db,
    `select f.id, f.path, f.name, f.bytes, f.modified, l.excepted @> f.id as excepted
     from lot l cross join lateral unnest(l.space_files) as span cross join lateral (
       select * from space_file where account = $1 and id >= lower(span) and id < upper(span) offset 0) f
     where l.account = $1 and l.id = $2 and l.run is null and f.gone_at is null
       and ($3::bigint is null or f.bytes < $3 or (f.bytes = $3 and f.id > $4::bigint))
     order by f.bytes desc, f.id limit $5`,
    [account, lot, page.after?.bytes ?? null, page.after?.id ?? null, page.limit],
  );
}

/** Of some files, those that lots of the plan, or runs that are not over, take. */
export async function filesOfSpacesTaken(db: Queryable, account: number): Promise<Ranges> {
  const { files } = await theRow<{ files: string }>(
    db,
    `select coalesce(range_agg(files), '{}')::text as files from (
       select ${HELD_FILES} as files from lot where account = $1 and run is null and space is not null
       union all
       select space_files from run where account = $1 and space is not null and action <> 'restore'
         and state in ('queued', 'running', 'paused', 'failed')) taken`,
    [account],
  );
  return parseMultirange(files);
}
