import * as clock from '../../clock/clock';
import { type RepeatingFolder, repeatingFolders } from '../../core/repeats/folders';
import { KEPT_IN, keptOf } from '../../core/repeats/keeper';
import { copyOf, keptInOf, type TwinGroup, type TwinRows, twinGroups } from '../../core/repeats/twins';
import { includes, parseMultirange, printMultirange, type Ranges, rangesOf } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import { type Queryable, rows, theRow } from '../database';
import { foldersOf, type StoredFolder } from '../index/folders';
import { guardedNow } from '../index/guarded';
import { foldersInScope } from '../index/selection';
import { placementsIn } from '../index/spans';
import { readTwins } from '../index/twins';
import { HELD, IS_OF_FILES } from './held';

/** What exists more than once, and which of it can go. */
export interface Twins {
  rows: TwinRows;
  /** Those from which most is won first. */
  groups: TwinGroup[];
  repeating: RepeatingFolder[];
  folders: StoredFolder[];
  guarded: Ranges;
  /** What lots of the plan, and runs that are not over, take. */
  taken: Ranges;
}

export async function twinsOf(db: Queryable, account: Account): Promise<Twins> {
  const found = await readTwins(db, account);
  const folders = await foldersOf(db, account.id);
  const { members: guarded } = await guardedNow(db, account, clock.now());
  const taken = await takenNow(db, account.id);
  const repeating = repeatingFolders(await messagesByFolder(db, account.id), foldersOfGroups(found));
  const facts = {
    isGuarded: (id: number) => includes(guarded, id),
    isTaken: (id: number) => includes(taken, id),
    keptIn: keptIn(folders, repeating),
  };
  const groups = twinGroups(found, facts, account.settings.keepRules);
  groups.sort((a, b) => b.bytes - a.bytes || a.id - b.id);
  return { rows: found, groups, repeating, folders, guarded, taken };
}

/** How well a message is kept in each folder. */
function keptIn(folders: readonly StoredFolder[], repeating: readonly RepeatingFolder[]) {
  const imports = new Set(repeating.map(({ folder }) => folder));
  const kept = new Map(folders.map(({ id, role }) => [id, keptInOf(role, imports.has(id))]));
  return (folder: number) => kept.get(folder) ?? (KEPT_IN.at(-1) as (typeof KEPT_IN)[number]);
}

function* foldersOfGroups({ twin, folder }: TwinRows): Generator<number[]> {
  for (let from = 0; from < twin.length; ) {
    let until = from + 1;
    while (twin[until] === twin[from]) until++;
    yield [...folder.subarray(from, until)];
    from = until;
  }
}

async function messagesByFolder(db: Queryable, account: number): Promise<Map<number, number>> {
  const found = await rows<{ folder: number; messages: number }>(
    db,
    'select folder, count(*)::int as messages from placement where account = $1 and gone_at is null group by folder',
    [account],
  );
  return new Map(found.map(({ folder, messages }) => [folder, messages]));
}

/** What the plan and runs that are not over take away; or what they would without the plan's lots of copies. */
async function takenNow(db: Queryable, account: number, withTwins = true): Promise<Ranges> {
  const { members } = await theRow<{ members: string }>(
    db,
    `select coalesce(range_agg(members), '{}')::text as members from (
       select ${HELD} as members from lot where account = $1 and run is null and not ${IS_OF_FILES}
         ${withTwins ? '' : 'and not of_twins'}
       union all
       select members from run where account = $1 and action in ('trash', 'archive', 'purge')
         and state in ('queued', 'running', 'paused', 'failed')) taken`,
    [account],
  );
  return parseMultirange(members);
}

/**
 * What lots of copies of the plan must not take, since no other copy would stay though they promised that: of each such group the best of
 * those that they alone hold. Where other lots hold all of them, the person said so in other words. Ids.
 */
export async function brokenPromises(db: Queryable, account: Account): Promise<number[]> {
  const promised = await heldByTwinLots(db, account.id);
  if (promised.length === 0) return [];
  const { rows: found, groups, folders, repeating, guarded } = await twinsOf(db, account);
  const known = new Set(found.id);
  // Where no other copy is left, it is a copy of nothing.
  const staying = promised.filter((id) => !known.has(id));
  const isPromised = new Set(promised);
  const takenByOthers = await takenNow(db, account.id, false);
  const place = keptIn(folders, repeating);
  for (const { rows: members, kept } of groups) {
    if (kept) continue;
    const copies = members.map((row) =>
      copyOf(found, row, {
        isGuarded: (id) => includes(guarded, id),
        isTaken: (id) => !isPromised.has(id) || includes(takenByOthers, id),
        keptIn: place,
      }),
    );
    const best = keptOf(copies, account.settings.keepRules);
    if (best) staying.push(best.id);
  }
  return staying;
}

/**
 * Tells groups apart again of which the plan would take every copy, though a lot of copies promised that one stays.
 *
 * @returns ids of the messages that stay: they are excepted from these lots.
 */
export async function keepOneOfTwins(db: Queryable, account: Account): Promise<number[]> {
  const staying = await brokenPromises(db, account);
  if (staying.length > 0)
    await db.query(
      `update lot set excepted = excepted + ($2::int8multirange * members) where account = $1 and run is null and of_twins`,
      [account.id, printMultirange(rangesOf(staying))],
    );
  return staying;
}

async function heldByTwinLots(db: Queryable, account: number): Promise<number[]> {
  const found = await rows<{ id: number }>(
    db,
    `select distinct p.id from lot cross join ${placementsIn(HELD)}
     where lot.account = $1 and lot.run is null and lot.of_twins and p.gone_at is null`,
    [account],
  );
  return found.map(({ id }) => id);
}

/** A copy of a member of a run, and where it lies. */
export interface StayingCopy {
  /** The member. */
  of: number;
  id: number;
  generation: number;
  uid: number;
}

/**
 * Of some members of a run those that lots of copies gave it, and the copies of each that neither the plan nor a run takes and that lie outside the
 * trash,
 * as far as the index knows.
 */
export async function stayingCopies(
  db: Queryable,
  account: Account,
  run: number,
  ids: readonly number[],
): Promise<{ promised: Ranges; copies: StayingCopy[] }> {
  const { wanted } = await theRow<{ wanted: string | null }>(
    db,
    'select (range_agg(members) * $3::int8multirange)::text as wanted from lot where account = $1 and run = $2 and of_twins',
    [account.id, run, printMultirange(rangesOf(ids))],
  );
  const promised = parseMultirange(wanted ?? '{}');
  if (promised.length === 0) return { promised, copies: [] };
  const folders = foldersInScope(await foldersOf(db, account.id), 'mail', account.settings.trashFolder);
  const copies = await rows<StayingCopy>(
    db,
    `select p.id as of, q.id, q.generation, q.uid from ${placementsIn('$3::int8multirange')}
     left join twin_digest d on d.account = $1 and d.message = p.message
     cross join lateral (
       select message from twin_digest where account = $1 and twin = d.twin union select p.message) copy
     cross join lateral (
       select * from placement where account = $1 and message = copy.message and gone_at is null offset 0) q
     where q.folder = any($2::int[]) and q.id <> p.id`,
    [account.id, folders, wanted],
  );
  const leaving = await takenNow(db, account.id);
  return { promised, copies: copies.filter(({ id }) => !includes(leaving, id)) };
}
