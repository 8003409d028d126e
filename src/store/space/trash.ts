import { createHash } from 'node:crypto';
import { trashPaths } from '../../core/space/trash';
import { type Queryable, row, rows } from '../database';
import type { FileAmount, FileSpace } from './spaces';

/** The path of the trash of a file space: the one that is used, else a folder that is called so; null where there is none. */
export async function trashOf(
  db: Queryable,
  account: number,
  { id, root, trash }: Pick<FileSpace, 'id' | 'root' | 'trash'>,
): Promise<string | null> {
  if (trash !== null) return trash;
  const paths = trashPaths(root);
  const found = await row<{ path: string }>(
    db,
    `select f.path from unnest($3::bytea[]) with ordinality as one (path_hash, place)
     join space_folder f on f.account = $1 and f.space = $2 and f.path_hash = one.path_hash and not f.shared
     order by one.place limit 1`,
    [account, id, paths.map((path) => createHash('sha256').update(path).digest())],
  );
  return found?.path ?? null;
}

/** What went into the trash of a file space together: by one run, or in another way. */
export interface SpaceTrashGroup extends FileAmount {
  run: number | null;
  label: string | null;
}

/** What lies in the trash of a file space, by how it came there, the newest first. @param trash its path. */
export async function spaceTrashGroups(
  db: Queryable,
  account: number,
  space: number,
  trash: string,
): Promise<SpaceTrashGroup[]> {
  return rows<SpaceTrashGroup>(
    db,
    `select f.trashed_by as run, r.label, count(*)::int as files, sum(f.bytes)::bigint as bytes
     from space_file f left join run r on r.account = f.account and r.id = f.trashed_by
     where f.account = $1 and f.space = $2 and f.gone_at is null and not f.shared and starts_with(f.path, $3)
     group by f.trashed_by, r.label order by f.trashed_by desc nulls last`,
    [account, space, trash],
  );
}
