import type { KeptFiles } from '../../core/columns/file-columns';
import { FILE_KINDS, type FileKind } from '../../core/files/kinds';
import { shownPath } from '../../core/space/path';
import { type FolderFigures, type FolderSums, sumUp } from '../../core/space/tree';
import { type Queryable, row, rows, theRow } from '../database';
import { unpacked } from '../index/packed';
import type { FileAmount } from './spaces';

export interface SpaceFolder extends FolderFigures {
  path: string;
}

/** The folders of a file space, each with what lies in it and below it: one's own, or in what others share, theirs. */
export async function foldersOfSpace(
  db: Queryable,
  account: number,
  space: number,
): Promise<FolderSums<SpaceFolder>[]> {
  return sumUp(
    await rows<SpaceFolder>(
      db,
      `select o.id, o.parent, o.path, o.shared, coalesce(f.files, 0)::int as files, coalesce(f.bytes, 0)::bigint as bytes
       from space_folder o left join (
         select folder, shared, count(*) as files, sum(bytes) as bytes from space_file
         where account = $1 and space = $2 and gone_at is null group by folder, shared) f
         on f.folder = o.id and f.shared = o.shared
       where o.account = $1 and o.space = $2 order by o.id`,
      [account, space],
    ),
  );
}

/** The files that count, by what they are, and by the year in which they were last changed. */
export async function kindsAndYears(
  db: Queryable,
  account: number,
  space: number,
  timeZone: string,
): Promise<{ kinds: (FileAmount & { kind: FileKind })[]; years: (FileAmount & { year: number | null })[] }> {
  const cells = await rows<FileAmount & { kind: number; year: number | null }>(
    db,
    `select kind, extract(year from modified at time zone $3)::int as year, count(*)::int as files, sum(bytes)::bigint as bytes
     from space_file where account = $1 and space = $2 and gone_at is null and not shared group by 1, 2`,
    [account, space, timeZone],
  );
  const kinds = sumsBy(cells, ({ kind }) => FILE_KINDS[kind] ?? 'other');
  const years = sumsBy(cells, ({ year }) => year);
  return {
    kinds: [...kinds].map(([kind, sum]) => ({ kind, ...sum })).sort((a, b) => b.bytes - a.bytes),
    years: [...years].map(([year, sum]) => ({ year, ...sum })).sort((a, b) => (b.year ?? 0) - (a.year ?? 0)),
  };
}

function sumsBy<T extends FileAmount, K>(cells: readonly T[], keyOf: (cell: T) => K): Map<K, FileAmount> {
  const sums = new Map<K, FileAmount>();
  for (const cell of cells) {
    const sum = sums.get(keyOf(cell)) ?? { files: 0, bytes: 0 };
    sums.set(keyOf(cell), { files: sum.files + cell.files, bytes: sum.bytes + cell.bytes });
  }
  return sums;
}

/** A file of a file space. */
export interface SpaceFile {
  id: number;
  /** As core/space/path.ts spells it. */
  path: string;
  name: string;
  type: string;
  kind: FileKind;
  bytes: number;
  modified: Date | null;
  shared: boolean;
}

/** The largest files, those that others share among them. @param after the last one of the page before. */
export async function largestFiles(
  db: Queryable,
  account: number,
  space: number,
  page: { limit: number; after?: { bytes: number; id: number } | undefined; kind?: FileKind | undefined },
): Promise<SpaceFile[]> {
  const { limit, after, kind } = page;
  const found = await rows<Omit<SpaceFile, 'kind'> & { kind: number }>(
    db,
    `select id, path, name, type, kind, bytes, modified, shared from space_file
     where account = $1 and space = $2 and gone_at is null and ($3::smallint is null or kind = $3)
       and ($4::bigint is null or bytes < $4 or (bytes = $4 and id > $5::bigint))
     order by bytes desc, id limit $6`,
    [account, space, kind ? FILE_KINDS.indexOf(kind) : null, after?.bytes ?? null, after?.id ?? null, limit],
  );
  return found.map((file) => ({ ...file, kind: FILE_KINDS[file.kind] ?? 'other' }));
}

/** A file of a file space that is there. */
export async function spaceFileById(
  db: Queryable,
  account: number,
  id: number,
): Promise<(Pick<SpaceFile, 'path' | 'type' | 'kind' | 'bytes'> & { space: number }) | undefined> {
  const found = await row<{ space: number; path: string; type: string; kind: number; bytes: number }>(
    db,
    'select space, path, type, kind, bytes from space_file where account = $1 and id = $2 and gone_at is null',
    [account, id],
  );
  return found && { ...found, kind: FILE_KINDS[found.kind] ?? 'other' };
}

/** Files of one's own in file spaces, those in the trash left out, as columns. */
export async function keptFiles(db: Queryable, account: number): Promise<KeptFiles> {
  const packed = await theRow<
    Record<'id' | 'size' | 'kind' | 'changed' | 'folder', Buffer | null> & { name: string | null }
  >(
    db,
    `select string_agg(float8send(id::float8), ''::bytea) as id, string_agg(float8send(bytes::float8), ''::bytea) as size,
       string_agg(int4send(kind), ''::bytea) as kind, string_agg(float8send(changed), ''::bytea) as changed,
       string_agg(float8send(folder::float8), ''::bytea) as folder, string_agg(replace(name, E'\\n', ' '), E'\\n') as name
     from (select f.id, f.bytes, f.kind::int, floor(date_part('epoch', coalesce(f.modified, s.listed_at, now()))) as changed, f.folder, f.name
       from space_file f join space s on s.account = f.account and s.id = f.space
       where f.account = $1 and f.gone_at is null and not f.shared and not coalesce(starts_with(f.path, s.trash), false)
       order by f.id desc) found`,
    [account],
  );
  const folders = await rows<{ id: number; path: string; root: string; origin: string }>(
    db,
    `select o.id, o.path, s.root, s.origin from space_folder o join space s on s.account = o.account and s.id = o.space
     where o.account = $1`,
    [account],
  );
  const shown = new Map(
    folders.map(({ id, path, root, origin }) => [
      id,
      [new URL(origin).host, shownPath(path, root)].filter(Boolean).join('/'),
    ]),
  );
  const id = unpacked(packed.id, 8) as Float64Array;
  return {
    length: id.length,
    id,
    size: unpacked(packed.size, 8) as Float64Array,
    kind: Uint8Array.from(unpacked(packed.kind, 4)),
    name: id.length === 0 ? [] : (packed.name ?? '').split('\n'),
    changed: unpacked(packed.changed, 8) as Float64Array,
    folder: Array.from(unpacked(packed.folder, 8) as Float64Array, (folder) => shown.get(folder) ?? ''),
  };
}
