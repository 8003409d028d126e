import { numbersOf, parseMultirange } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import { type Queryable, rows, theRow } from '../database';
import type { FilePromise } from './file-lots';
import { HELD_FILES } from './held';
import { type StayingFile, sameFiles } from './staying';

/** Files that lots of the plan with a promise take. */
export async function promisedOfLots(
  db: Queryable,
  account: number,
  promise: FilePromise,
  lots: readonly number[],
): Promise<number[]> {
  const { files } = await theRow<{ files: string }>(
    db,
    `select coalesce(range_agg(${HELD_FILES}), '{}')::text as files from lot
     where account = $1 and run is null and space is not null and promise = $3 and id = any($2::int[])`,
    [account, lots, promise],
  );
  return [...numbersOf(parseMultirange(files))];
}

/** Files of a run that lots with a promise gave it. */
export async function promisedOfRun(
  db: Queryable,
  account: number,
  run: number,
  promise: FilePromise,
): Promise<number[]> {
  const { files } = await theRow<{ files: string }>(
    db,
    `select (coalesce((select range_agg(l.space_files) from lot l
       where l.account = $1 and l.run is not null and l.space = r.space and l.promise = $3), '{}') * r.space_files)::text as files
     from run r where r.account = $1 and r.id = $2`,
    [account, run, promise],
  );
  return [...numbersOf(parseMultirange(files))];
}

/** For each of some files of a file space, the same ones in messages that nothing takes away, as far as the index knows. */
export async function sameInMail(
  db: Queryable,
  account: Account,
  files: readonly number[],
): Promise<Map<number, StayingFile[]>> {
  const digests = await rows<{ id: number; sha256: string | null }>(
    db,
    `select f.id, encode(f.sha256, 'hex') as sha256 from unnest($2::bigint[]) as wanted (id) cross join lateral (
       select * from space_file where account = $1 and id = wanted.id offset 0) f`,
    [account.id, files],
  );
  const wanted = [...new Set(digests.flatMap(({ sha256 }) => sha256 ?? []))];
  const found = new Map<string, StayingFile[]>();
  for (const one of await sameFiles(db, account, wanted)) {
    const same = found.get(one.key);
    if (same) same.push(one);
    else found.set(one.key, [one]);
  }
  return new Map(digests.map(({ id, sha256 }) => [id, found.get(`s${sha256}`) ?? []]));
}

/** How many files lots of the plan would take though no message would have them any more, which they promised. */
export async function brokenMailCopies(db: Queryable, account: Account, lots: readonly number[]): Promise<number> {
  const promised = await promisedOfLots(db, account.id, 'mail', lots);
  if (promised.length === 0) return 0;
  const stay = await sameInMail(db, account, promised);
  return promised.filter((file) => (stay.get(file)?.length ?? 0) === 0).length;
}
