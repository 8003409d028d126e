import type { Amount } from '../../core/level/level';
import { type Queryable, rows } from '../database';
import { HELD } from '../plan/held';

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

/** What of a lot that was carried out lies in the trash. */
export interface TrashLot extends Amount {
  id: number;
  label: string;
  run: number;
}

/** What lies in these folders of each lot of the runs that brought it there. */
export async function trashLots(db: Queryable, account: number, folders: readonly number[]): Promise<TrashLot[]> {
  return rows<TrashLot>(
    db,
    // From the few that runs brought there, since a lot may be tens of thousands of ranges.
    `with taken as materialized (
       select id, label, run, ${HELD} as held from lot where account = $1 and run is not null)
     select l.id, l.label, l.run, count(*)::int as messages, sum(p.size)::bigint as bytes
     from placement p join taken l on l.run = p.trashed_by and p.id <@ l.held
     where p.account = $1 and p.trashed_by is not null and p.gone_at is null and p.folder = any($2::int[])
     group by l.id, l.label, l.run order by l.id`,
    [account, folders],
  );
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
