import * as clock from '../../clock/clock';
import { type RepeatingFolder, repeatingFolders } from '../../core/repeats/folders';
import { KEPT_IN, keptOf } from '../../core/repeats/keeper';
import { copyOf, keptInOf, type TwinGroup, type TwinRows, twinGroups } from '../../core/repeats/twins';
import { includes, parseMultirange, printMultirange, type Ranges, rangesOf } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import { type Queryable, row, rows, theRow } from '../database';
import { foldersOf, type StoredFolder } from '../index/folders';
import { guardedNow } from '../index/guarded';
import { foldersInScope } from '../index/selection';
import { placementsIn } from '../index/spans';
import { readTwins } from '../index/twins';
import { HELD, IS_OF_FILES } from './held';

/** Digits of a SHA-256 in hexadecimal notation. */
const DIGEST_DIGITS = 64;

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

/** Sets that the plan and runs that are not over take away, those of lots of copies among them or not. */
function takenBy(withTwins: boolean): string {
  return `select ${HELD} as members from lot where account = $1 and run is null and not ${IS_OF_FILES} ${withTwins ? '' : 'and not of_twins'}
    union all
    select members from run where account = $1 and action in ('trash', 'archive', 'purge')
      and state in ('queued', 'running', 'paused', 'failed')`;
}

/** What the plan and runs that are not over take away; or what they would without the plan's lots of copies. */
async function takenNow(db: Queryable, account: number, withTwins = true): Promise<Ranges> {
  const { members } = await theRow<{ members: string }>(
    db,
    `select coalesce(range_agg(members), '{}')::text as members from (${takenBy(withTwins)}) taken`,
    [account],
  );
  return parseMultirange(members);
}

/**
 * What lots of copies of the plan must not take, since no other copy would stay though they promised that: of each such group the best of
 * those that they alone hold. Where other lots hold all of them, the person said so in other words. Ids.
 *
 * @param twins where they are known.
 */
export async function brokenPromises(db: Queryable, account: Account, twins?: Twins): Promise<number[]> {
  const promised = await heldByTwinLots(db, account.id);
  if (promised.length === 0) return [];
  const { rows: found, groups, folders, repeating, guarded } = twins ?? (await twinsOf(db, account));
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

/** Whether lots of copies gave a run any of its members. */
export async function isOfTwins(db: Queryable, account: number, run: number): Promise<boolean> {
  return (
    (await row(db, 'select 1 from lot where account = $1 and run = $2 and of_twins limit 1', [account, run])) !==
    undefined
  );
}

/** A member of a run, and by what its copies are told: a digest in hexadecimal digits, or the number of a message. */
export interface PromisedMember {
  id: number;
  key: string;
}

/** Those of some members of a run that lots of copies gave it. */
export async function promisedMembers(
  db: Queryable,
  account: number,
  run: number,
  ids: readonly number[],
): Promise<PromisedMember[]> {
  return rows<PromisedMember>(
    db,
    `with promised as materialized (
       select range_agg(members) * $3::int8multirange as members from lot where account = $1 and run = $2 and of_twins)
     select p.id, coalesce(encode(d.twin, 'hex'), p.message::text) as key
     from promised cross join ${placementsIn('promised.members')}
     left join twin_digest d on d.account = $1 and d.message = p.message`,
    [account, run, printMultirange(rangesOf(ids))],
  );
}

/** A copy that may stay, and where it lies. */
export interface StayingCopy {
  key: string;
  id: number;
  generation: number;
  uid: number;
}

/** Copies outside the trash that neither the plan nor a run takes, as far as the index knows. */
export async function stayingCopies(db: Queryable, account: Account, keys: readonly string[]): Promise<StayingCopy[]> {
  const isDigest = (key: string) => key.length === DIGEST_DIGITS;
  const copies = await rows<StayingCopy>(
    db,
    `with named as materialized (
       select encode(d.twin, 'hex') as key, d.message from unnest($3::bytea[]) as wanted (twin)
       cross join lateral (select * from twin_digest where account = $1 and twin = wanted.twin offset 0) d
       union all select message::text, message from unnest($4::bigint[]) as alone (message))
     select named.key, q.id, q.generation, q.uid from named cross join lateral (
       select * from placement where account = $1 and message = named.message and gone_at is null offset 0) q
     where q.folder = any($2::int[])`,
    [
      account.id,
      foldersInScope(await foldersOf(db, account.id), 'mail', account.settings.trashFolder),
      keys.filter(isDigest).map((key) => Buffer.from(key, 'hex')),
      keys.filter((key) => !isDigest(key)),
    ],
  );
  const taken = await takenAmong(
    db,
    account.id,
    copies.map(({ id }) => id),
  );
  return copies.filter(({ id }) => !includes(taken, id));
}

/** Which of some placements the plan, or a run that is not over, takes. */
export async function takenAmong(db: Queryable, account: number, ids: readonly number[]): Promise<Ranges> {
  const { members } = await theRow<{ members: string }>(
    db,
    `select coalesce(range_agg(members) * $2::int8multirange, '{}')::text as members from (${takenBy(true)}) taken`,
    [account, printMultirange(rangesOf(ids))],
  );
  return parseMultirange(members);
}
