import { FATES_OF_FILES } from '../../core/plan/fates';
import { parseMultirange, printMultirange, type Ranges, rangesOf } from '../../core/sets/ranges';
import { type Queryable, theRow } from '../database';
import { HELD, IS_OF_FILES } from './held';

/** What a lot promises: that of all that it takes another one stays. Messages, files with the same octets, pictures nearly alike, messages that quote others in full, files in a file space. */
export const PROMISES = ['twins', 'files', 'pictures', 'echoes', 'spaces'] as const;
export type Promised = (typeof PROMISES)[number];

const UNDER_WAY = `state in ('queued', 'running', 'paused', 'failed')`;
const OF_FILES = FATES_OF_FILES.map((fate) => `'${fate}'`).join(', ');

/** Sets of placements that the plan and runs that are not over take away. */
function takenBy(without: Promised | undefined): string {
  return `select ${HELD} as members from lot where account = $1 and run is null and not ${IS_OF_FILES}
      ${without ? `and promise is distinct from '${without}'` : ''}
    union all
    select members from run where account = $1 and action in ('trash', 'archive', 'purge') and ${UNDER_WAY}`;
}

/** Placements that the plan and runs that are not over take away. @param without lots with that promise are left out of account. */
export async function takenNow(db: Queryable, account: number, without?: Promised): Promise<Ranges> {
  return unionOf(
    db,
    account,
    `select coalesce(range_agg(members), '{}')::text as members from (${takenBy(without)}) taken`,
  );
}

/** Which of some placements the plan, or a run that is not over, takes. */
export async function takenAmong(db: Queryable, account: number, ids: readonly number[]): Promise<Ranges> {
  const { members } = await theRow<{ members: string }>(
    db,
    `select coalesce(range_agg(members) * $2::int8multirange, '{}')::text as members from (${takenBy(undefined)}) taken`,
    [account, printMultirange(rangesOf(ids))],
  );
  return parseMultirange(members);
}

/** Sets of files that lots of the plan, and runs that are not over, take out or make smaller. */
function filesTakenBy(without: Promised | undefined): string {
  return `select files from lot where account = $1 and run is null and files is not null
      ${without ? `and promise is distinct from '${without}'` : ''}
    union all
    select files from run where account = $1 and action in (${OF_FILES}) and ${UNDER_WAY} and files is not null`;
}

/** Files that lots of the plan, and runs that are not over, take out or make smaller. */
export async function filesTakenNow(db: Queryable, account: number, without?: Promised): Promise<Ranges> {
  return unionOf(
    db,
    account,
    `select coalesce(range_agg(files), '{}')::text as members from (${filesTakenBy(without)}) taken`,
  );
}

/** Which of some files they take. */
export async function filesTakenAmong(db: Queryable, account: number, files: readonly number[]): Promise<Ranges> {
  const { members } = await theRow<{ members: string }>(
    db,
    `select coalesce(range_agg(files) * $2::int8multirange, '{}')::text as members from (${filesTakenBy(undefined)}) taken`,
    [account, printMultirange(rangesOf(files))],
  );
  return parseMultirange(members);
}

async function unionOf(db: Queryable, account: number, sql: string): Promise<Ranges> {
  return parseMultirange((await theRow<{ members: string }>(db, sql, [account])).members);
}
