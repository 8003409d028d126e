import type { Amount } from '../core/level/level';
import { type Queryable, rows } from './database';

/** What went into the trash together: by one run, or by other programs. */
export interface TrashGroup extends Amount {
  /** Null for what other programs moved. */
  run: number | null;
  label: string | null;
  /** When the first and the last of it went in, as far as is known; both null where nobody tells. */
  first: Date | null;
  last: Date | null;
  /** Messages of which nobody knows when they went in. */
  undated: number;
}

/** What lies in these folders, by how it came there, newest first. */
export async function trashGroups(db: Queryable, account: number, folders: readonly number[]): Promise<TrashGroup[]> {
  return rows<TrashGroup>(
    db,
    `select p.trashed_by as run, r.label, count(*)::int as messages, sum(p.size)::bigint as bytes,
            min(p.placed_at) as first, max(p.placed_at) as last, count(*) filter (where p.placed_at is null)::int as undated
     from placement p left join run r on r.account = p.account and r.id = p.trashed_by
     where p.account = $1 and p.gone_at is null and p.folder = any($2::int[])
     group by p.trashed_by, r.label order by max(p.placed_at) desc nulls last`,
    [account, folders],
  );
}
