import { printMultirange, type Ranges } from '../../core/sets/ranges';
import { type Queryable, rows } from '../database';
import { placementsIn, placementsOf } from '../index/spans';
import { WON } from '../plan/plan-rows';

/** A message that stands, or is about to stand, in the place of another. */
export interface Rewrite {
  /** The original. */
  placement: number;
  state: 'appending' | 'standing';
  generation: number;
  /** The folder's next UID before the APPEND. */
  uidNext: number;
  uid: number | null;
  /** Octets, and their SHA-256 in hexadecimal. */
  size: number;
  sha256: string;
}

/** A file that is to be taken out of a message. */
export interface FileToStrip {
  file: number;
  part: string;
  name: string;
  type: string;
  /** Encoded octets. */
  size: number;
}

/** An original: what its replacement takes from it, as it is now, and the files that are to go. */
export interface Original {
  placement: number;
  received: Date;
  flags: number;
  keywords: string[];
  files: FileToStrip[];
  rewrite: Rewrite | undefined;
}

/** The spans of those files of a run that are in messages; joined with the files themselves as f. */
const filesIn = (messages: string) => `(
    select r.shrinking, unnest(r.files * (select range_agg(int8range(message * 512, message * 512 + 512)) from ${messages})) as span
    from run r where r.account = $1 and r.id = $2) wanted cross join lateral (
    select * from file where account = $1 and id >= lower(wanted.span) and id < upper(wanted.span) offset 0) f`;

/** The originals among some placements of a run. */
export async function originalsOf(
  db: Queryable,
  account: number,
  run: number,
  ids: readonly number[],
): Promise<Map<number, Original>> {
  const found = await rows<
    Omit<Original, 'rewrite' | 'files'> & {
      files: (FileToStrip & { inside: number })[] | null;
      rewrite: Rewrite | null;
    }
  >(
    db,
    `with original as materialized (
       select p.id, p.message, p.received, p.flags, p.keywords from ${placementsOf('$3::bigint[]')}),
     files as materialized (
       select f.id / 512 as message, json_agg(json_build_object('file', f.id, 'part', f.part, 'name', f.name, 'type', f.type,
         'size', f.size, 'inside', f.inside) order by f.id) as files
       from ${filesIn('original')} group by f.id / 512)
     select p.id as placement, p.received, p.flags, p.keywords, files.files,
       (select json_build_object('placement', w.placement, 'state', w.state, 'generation', w.generation, 'uidNext', w.uid_next,
          'uid', w.uid, 'size', w.size, 'sha256', encode(w.sha256, 'hex'))
        from run_rewrite w where w.account = $1 and w.run = $2 and w.placement = p.id) as rewrite
     from original p left join files on files.message = p.message`,
    [account, run, ids],
  );
  return new Map(
    found.map(({ rewrite, files, ...original }) => [
      original.placement,
      { ...original, files: outermost(files ?? []), rewrite: rewrite ?? undefined },
    ]),
  );
}

/** Without files that are inside an enclosed message which goes too. */
function outermost(files: readonly (FileToStrip & { inside: number })[]): FileToStrip[] {
  const found: FileToStrip[] = [];
  let within = 0;
  for (const { inside, ...file } of files) {
    if (file.file <= within) continue;
    found.push(file);
    within = file.file + inside;
  }
  return found;
}

/** By member of a run, about how many octets its replacement has. */
export async function expectedSizes(db: Queryable, account: number, run: number): Promise<Map<number, number>> {
  const found = await rows<{ id: number; size: number }>(
    db,
    `with member as materialized (
       select p.id, p.message, p.size from run r cross join ${placementsIn('r.members')} where r.account = $1 and r.id = $2),
     files as materialized (
       select f.id / 512 as message, sum(${WON})::bigint as won from ${filesIn('member')} group by f.id / 512)
     select p.id, p.size - coalesce(files.won, 0) as size from member p left join files on files.message = p.message`,
    [account, run],
  );
  return new Map(found.map(({ id, size }) => [id, size]));
}

/** Folders in which replacements of some originals are. */
export async function foldersOfRewrites(db: Queryable, account: number, originals: Ranges): Promise<number[]> {
  const found = await rows<{ folder: number }>(
    db,
    `select distinct g.folder from run_rewrite w join generation g on g.account = w.account and g.id = w.generation
     where w.account = $1 and w.placement <@ $2::int8multirange`,
    [account, printMultirange(originals)],
  );
  return found.map(({ folder }) => folder);
}

/**
 * Replacements that are there although their original is too, outside the trash: by their placements. Only what the server told
 * the UID of, or what was found by its octets, is among them.
 *
 * @param trash folders of the trash.
 */
export async function needlessReplacements(
  db: Queryable,
  account: number,
  originals: Ranges,
  trash: readonly number[],
): Promise<number[]> {
  const found = await rows<{ id: number }>(
    db,
    `select distinct p.id from run_rewrite w
     join placement o on o.account = w.account and o.id = w.placement and o.gone_at is null and o.folder <> all($3::int[])
     join placement p on p.account = w.account and p.generation = w.generation and p.uid = w.uid and p.gone_at is null
       and p.folder <> all($3::int[]) and (p.size = w.size or w.state = 'appending')
     where w.account = $1 and w.placement <@ $2::int8multirange`,
    [account, printMultirange(originals), trash],
  );
  return found.map(({ id }) => id);
}

/** Has a run take files out, those of lots; or make them smaller, as these lots say. */
export async function giveFiles(db: Queryable, account: number, run: number, lots: readonly number[]): Promise<void> {
  await db.query(
    `update run set (files, shrinking) = (
       select range_agg(files), max(shrinking::text)::jsonb from lot where account = $1 and id = any($3::int[]))
     where account = $1 and id = $2`,
    [account, run, lots],
  );
}

/** Has a run take the same files out that another was to. */
export async function giveFilesOfRun(db: Queryable, account: number, run: number, other: number): Promise<void> {
  await db.query(
    `update run set (files, shrinking) = (select files, shrinking from run where account = $1 and id = $3)
     where account = $1 and id = $2`,
    [account, run, other],
  );
}

/** Lets a run touch all of its members although guards keep some. Holds still do. */
export async function overrideGuards(db: Queryable, account: number, run: number): Promise<void> {
  await db.query('update run set passed = members where account = $1 and id = $2', [account, run]);
}
