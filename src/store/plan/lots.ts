import type { Criteria } from '../../core/criteria/tree';
import { kindNumber } from '../../core/files/kinds';
import type { Shrinking } from '../../core/files/shrinking';
import { KEEP_FILES } from '../../core/guards/guards';
import type { Amount } from '../../core/level/level';
import { bitsOfRanges } from '../../core/plan/bits';
import { type Fate, isOfFiles } from '../../core/plan/fates';
import { type LotFigures, type LotSet, lotSet, planFigures } from '../../core/plan/plan';
import { countOf, parseMultirange, printMultirange, type Ranges, rangesOf } from '../../core/sets/ranges';
import { type Account, nextNumber } from '../access/accounts';
import { IS_CHECKED_COPY } from '../archive/bags';
import { type Queryable, row, rows, theRow } from '../database';
import { foldersOf } from '../index/folders';
import { type Guarded, guardedNow } from '../index/guarded';
import { unpacked } from '../index/packed';
import { foldersInScope, type Scope, select, selectFiles } from '../index/selection';
import { placementsIn, placementsOf } from '../index/spans';
import { applyGuards } from './guards';
import { HELD, IS_OF_FILES } from './held';
import { PlanRows } from './plan-rows';
import { keepPromises } from './promises';
import { PROMISES, type Promised } from './taken';

/** What is to be saved comes before it goes; who deletes a message leaves no file in it to be taken out, so these lots count last. */
const BY_FATE = `array_position(array['archive', 'purge', 'trash', 'strip', 'shrink'], fate)`;

/** Of a lot that takes files out what only guards keep that protect what a message says. */
const KEPT_OTHERWISE = `(${HELD} * coalesce((select range_agg(g.members) from lot_guarded g
  where g.account = lot.account and g.lot = lot.id), '{}'))`;

/** Whether a file f of a lot has no checked copy outside the mailbox, of it or of one with the same octets, and none that was promised to stay. */
const HAS_NO_COPY = `lot.promise is null and not exists (select 1 from bag_file c join bag b on b.account = c.account and b.id = c.bag
  where c.account = lot.account and c.file = f.id and ${IS_CHECKED_COPY})
  and not exists (select 1 from file_digest d join bag_file c on c.account = d.account and c.sha256 = d.sha256
  join bag b on b.account = c.account and b.id = c.bag
  where d.account = lot.account and d.file = f.id and ${IS_CHECKED_COPY})`;

/** Files f of a lot without such a copy, those that were found to have the same octets once: one copy will do for them. */
const UNCHECKED_FILES = `select distinct on (coalesce(encode(d.sha256, 'hex'), f.id::text)) f.id from unnest(lot.files) as span
  cross join lateral (select id from file where account = lot.account and id >= lower(span) and id < upper(span) offset 0) f
  left join file_digest d on d.account = lot.account and d.file = f.id where ${HAS_NO_COPY}`;

/** How many files of a lot these are. */
const UNCHECKED = `(select count(*)::int from (${UNCHECKED_FILES}) unchecked)`;

/** A lot of the plan with what it holds now. */
export interface Lot extends Amount {
  id: number;
  label: string;
  fate: Fate;
  where: string | null;
  suggestion: string | null;
  createdAt: Date;
  excepted: number;
  /** What guards keep out of it. */
  guarded: Amount;
  /** How pictures are made smaller. */
  shrinking: Shrinking | null;
  /** Files that are taken out, or made smaller; 0 of messages that go whole. */
  files: number;
  /** Of these, files without a checked copy outside the mailbox: they can't be taken out yet. */
  unchecked: number;
  /** Messages that a guard keeps from being deleted, but not from losing files: their text stays. */
  textKept: number;
  /** Members that went from the server since it was marked. */
  vanished: number;
  /** What it adds to the lots before it, and what no other lot holds. */
  adds: Amount;
  only: Amount;
}

/** The plan: its lots in the order in which they run and count, purge before trash, and their union. */
export interface Plan {
  lots: Lot[];
  total: Amount;
  /** Of what guards keep out of any lot, once. */
  guarded: Amount;
}

interface StoredLot
  extends Pick<
    Lot,
    'id' | 'label' | 'fate' | 'where' | 'suggestion' | 'createdAt' | 'excepted' | 'unchecked' | 'shrinking'
  > {
  held: string;
  guarded: string;
  taken: string | null;
  otherwise: string;
}

/** Reads the plan. The sets are compared in core, over the live placements of all of them. */
export async function planOf(db: Queryable, account: number): Promise<Plan> {
  const stored = await rows<StoredLot>(
    db,
    `select id, label, fate, criteria as "where", suggestion, created_at as "createdAt",
       (select coalesce(sum(upper(span) - lower(span)), 0)::int from unnest(excepted) span) as excepted,
       ${HELD}::text as held, (guarded - excepted)::text as guarded, files::text as taken, shrinking,
       case when ${IS_OF_FILES} then ${UNCHECKED} else 0 end as unchecked,
       case when ${IS_OF_FILES} then ${KEPT_OTHERWISE} else '{}' end::text as otherwise
     from lot where account = $1 and run is null and space is null order by ${BY_FATE}, place, id`,
    [account],
  );
  const packed = await theRow<{ ids: Buffer | null; sizes: Buffer | null }>(
    db,
    `with plan as materialized (select range_agg(members) as members from lot where account = $1 and run is null)
     select string_agg(int4send(id::int), ''::bytea) as ids, string_agg(float8send(size::float8), ''::bytea) as sizes
     from (select p.id, p.size from plan cross join ${placementsIn('plan.members')}
           where p.gone_at is null order by p.id) live`,
    [account],
  );
  const ids = unpacked(packed.ids, 4);
  const sizes = unpacked(packed.sizes, 8) as Float64Array;
  const held = stored.map((lot) => parseMultirange(lot.held));
  const planRows = await PlanRows.of(db, account, ids, sizes);
  const setOf = (ranges: Ranges, taken: string | null) => {
    const messages = bitsOfRanges(ranges, ids);
    const bits = taken === null ? planRows.deleted(messages) : planRows.withoutFiles(messages, taken);
    return lotSet(bits, planRows.sizes, planRows.messages);
  };
  const figuresOf = (sets: readonly LotSet[]) => planFigures(sets, planRows.sizes, planRows.messages);
  const figures = figuresOf(stored.map(({ taken }, index) => setOf(held[index] as Ranges, taken)));
  const kept = stored.map(({ guarded, taken }) => setOf(parseMultirange(guarded), taken));
  return {
    lots: stored.map(({ held: _, guarded: __, taken, otherwise, ...lot }, index) => {
      const { own, adds, only } = figures.lots[index] as LotFigures;
      const vanished = countOf(held[index] as Ranges) - own.messages;
      return {
        ...lot,
        ...own,
        adds,
        only,
        vanished,
        guarded: (kept[index] as LotSet).own,
        files: taken === null ? 0 : countOf(parseMultirange(taken)),
        textKept: countOf(parseMultirange(otherwise)),
      };
    }),
    total: figures.total,
    guarded: figuresOf(kept).total,
  };
}

/** Marks what matches now, less exceptions and what guards keep, and freezes it as a set of placements. */
export async function createLot(
  db: Queryable,
  account: Account,
  lot: {
    label: string;
    fate: Fate;
    /** How pictures are made smaller, for the fate `shrink`. */
    shrinking?: Shrinking | null;
    /** Of messages, or for the fates of files of these. */
    selector: { where: Criteria; text: string } | { ids: number[] };
    except: number[];
    scope: Scope;
    suggestion?: string | null;
    promise?: Promised | null;
    now: Date;
  },
): Promise<number> {
  const named = isOfFiles(lot.fate)
    ? await withFiles(db, account, lot.selector, lot.scope, lot.now, lot.fate === 'shrink')
    : { members: await membersOf(db, account, lot.selector, lot.scope, lot.now) };
  const text = 'where' in lot.selector ? lot.selector.text : null;
  const guarded = await guardedNow(db, account, lot.now);
  const [id] = await insertLots(db, account, guarded, [
    { ...lot, ...named, where: text, except: rangesOf(lot.except) },
  ]);
  return id as number;
}

async function membersOf(
  db: Queryable,
  account: Account,
  selector: { where: Criteria } | { ids: number[] },
  scope: Scope,
  now: Date,
): Promise<Ranges> {
  const aggregate = `select coalesce(range_agg(int8range(p.id, p.id + 1)), '{}')::text as members`;
  if ('where' in selector) {
    const { sql, values } = await select(db, account, selector.where, scope, now, false);
    return parseMultirange((await theRow<{ members: string }>(db, `${aggregate} ${sql}`, values)).members);
  }
  const folders = foldersInScope(await foldersOf(db, account.id), scope, account.settings.trashFolder);
  const { members } = await theRow<{ members: string }>(
    db,
    `${aggregate} from ${placementsOf('$2::bigint[]')} where p.gone_at is null and p.folder = any($3::int[])`,
    [account.id, selector.ids, folders],
  );
  return parseMultirange(members);
}

/** Files, and the messages that have any of them. */
async function withFiles(
  db: Queryable,
  account: Account,
  selector: { where: Criteria } | { ids: number[] },
  scope: Scope,
  now: Date,
  onlyPictures: boolean,
): Promise<{ members: Ranges; files: Ranges }> {
  const isList = 'ids' in selector;
  const criteria: Criteria = isList ? { kind: 'everything' } : selector.where;
  const { sql, values } = await selectFiles(db, account, criteria, scope, now);
  const { members, files } = await theRow<{ members: string; files: string }>(
    db,
    `select coalesce(range_agg(int8range(p.id, p.id + 1)), '{}')::text as members,
       coalesce(range_agg(int8range(f.id, f.id + 1)), '{}')::text as files
     ${sql} ${onlyPictures ? `and f.kind = ${kindNumber('picture')}` : ''}
       ${isList ? `and f.id = any($${values.length + 1}::bigint[])` : ''}`,
    isList ? [...values, selector.ids] : values,
  );
  return { members: parseMultirange(members), files: parseMultirange(files) };
}

/** A lot whose set is known. */
export interface NewLot {
  label: string;
  fate: Fate;
  where: string | null;
  members: Ranges;
  except: Ranges;
  /** What is taken out of them, or made smaller, for the fates of files. */
  files?: Ranges | undefined;
  shrinking?: Shrinking | null | undefined;
  suggestion?: string | null | undefined;
  /** What it promises to stay of all that it takes. */
  promise?: Promised | null | undefined;
}

/**
 * Writes lots behind those that are there; gives their numbers.
 *
 * @param guarded what the guards keep out of them.
 */
export async function insertLots(
  db: Queryable,
  account: Account,
  guarded: Guarded,
  lots: readonly NewLot[],
): Promise<number[]> {
  const ids: number[] = [];
  for (const { label, fate, where, members, except, files, suggestion, shrinking, promise } of lots) {
    const id = await nextNumber(db, account.id, 'lot');
    ids.push(id);
    await db.query(
      `insert into lot (account, id, place, label, fate, criteria, members, excepted, suggestion, files, shrinking, promise)
       select $1, $2, coalesce((select max(place) from lot where account = $1), 0) + 1, $3, $4, $5, $6::int8multirange, $7::int8multirange, $8, $9::int8multirange, $10::jsonb, $11`,
      [
        account.id,
        id,
        label,
        fate,
        where,
        printMultirange(members),
        printMultirange(except),
        suggestion ?? null,
        files ? printMultirange(files) : null,
        shrinking ? JSON.stringify(shrinking) : null,
        promise ?? null,
      ],
    );
  }
  await applyGuards(db, account, guarded, ids);
  // A lot of copies leaves one of each, so it can break what other lots promised alone.
  const isOfTwins = lots.every(({ promise }) => promise === 'twins');
  await keepPromises(db, account, isOfTwins ? PROMISES.filter((promise) => promise !== 'twins') : PROMISES);
  return ids;
}

/**
 * Takes what matches out of a lot and makes a lot of its own of it, right behind it.
 *
 * @returns the number of the new lot; undefined where nothing of the lot matches, or everything.
 */
export async function splitLot(
  db: Queryable,
  account: Account,
  lot: number,
  by: { where: Criteria; text: string; label: string },
  now: Date,
): Promise<number | undefined> {
  const inside = printMultirange(await membersOf(db, account, by, 'all', now));
  const old = await row<{ where: string | null; some: boolean; all: boolean }>(
    db,
    `select criteria as "where", not isempty(${HELD} * $3::int8multirange) as some, isempty(${HELD} - $3::int8multirange) as all
     from lot where account = $1 and id = $2 and run is null for update`,
    [account.id, lot, inside],
  );
  if (!old?.some || old.all) return undefined;
  const id = await nextNumber(db, account.id, 'lot');
  await db.query(
    'update lot set place = place + 1 where account = $1 and place > (select place from lot where account = $1 and id = $2)',
    [account.id, lot],
  );
  const [left, taken] =
    old.where === null ? [null, null] : [joined(old.where, `not (${by.text})`), joined(old.where, `(${by.text})`)];
  await db.query(
    `insert into lot (account, id, place, label, fate, files, shrinking, promise, criteria, members, excepted, guard_overrides)
     select account, $3, place + 1, $4, fate, files, shrinking, promise, $5, members * $6::int8multirange, excepted * $6::int8multirange, guard_overrides * $6::int8multirange
     from lot where account = $1 and id = $2`,
    [account.id, lot, id, by.label, taken, inside],
  );
  await db.query(
    `update lot set criteria = $3, members = members - $4::int8multirange, excepted = excepted - $4::int8multirange,
       guard_overrides = guard_overrides - $4::int8multirange where account = $1 and id = $2`,
    [account.id, lot, left, inside],
  );
  await applyGuards(db, account, await guardedNow(db, account, now), [lot, id]);
  return id;
}

function joined(one: string, other: string): string {
  return one === '' ? other : `(${one}) and ${other}`;
}

/** What can be changed of a lot. Exceptions and what is let through replace those before, or are added to them. */
export interface LotChange {
  label?: string | undefined;
  except?: number[] | undefined;
  alsoExcept?: number[] | undefined;
  allow?: number[] | undefined;
  /** Of a lot that brings its messages to the trash: whether they are archived before. */
  fate?: 'trash' | 'archive' | undefined;
  /** Its place among the lots of its fate, from 0. */
  place?: number | undefined;
}

/** False where there is no such lot in the plan. */
export async function changeLot(
  db: Queryable,
  account: Account,
  lot: number,
  change: LotChange,
  now: Date,
): Promise<boolean> {
  const set = (ids: number[] | undefined) => (ids ? printMultirange(rangesOf(ids)) : null);
  const changed = await db.query(
    `update lot set label = coalesce($3, label), guard_overrides = coalesce($4::int8multirange, guard_overrides),
       excepted = coalesce($5::int8multirange, excepted) + coalesce($6::int8multirange, '{}'),
       fate = case when fate in ('trash', 'archive') then coalesce($7, fate) else fate end
     where account = $1 and id = $2 and run is null`,
    [
      account.id,
      lot,
      change.label ?? null,
      set(change.allow),
      set(change.except),
      set(change.alsoExcept),
      change.fate ?? null,
    ],
  );
  if (changed.rowCount !== 1) return false;
  if (change.place !== undefined) await placeLot(db, account.id, lot, change.place);
  if (change.allow) await applyGuards(db, account, await guardedNow(db, account, now), [lot]);
  if (change.allow || change.except) await keepPromises(db, account);
  return true;
}

async function placeLot(db: Queryable, account: number, lot: number, place: number): Promise<void> {
  const found = await rows<{ id: number }>(
    db,
    `select id from lot where account = $1 and run is null and fate = (select fate from lot where account = $1 and id = $2)
     order by place, id`,
    [account, lot],
  );
  const others = found.map(({ id }) => id).filter((id) => id !== lot);
  others.splice(place, 0, lot);
  await db.query(
    `update lot set place = o.place from unnest($2::int[]) with ordinality as o (id, place) where lot.account = $1 and lot.id = o.id`,
    [account, others],
  );
}

/** Excepts messages from every lot of the plan that holds them. */
export async function exceptFromPlan(db: Queryable, account: number, ids: readonly number[]): Promise<void> {
  await db.query(
    `update lot set excepted = excepted + members * $2::int8multirange
     where account = $1 and run is null and members && $2::int8multirange`,
    [account, printMultirange(rangesOf(ids))],
  );
}

/** A part of a lot as a set, and of what guards keep the guards by message. */
type PlanPart = 'purge' | 'trash' | 'strip';

export type LotPart = 'held' | 'excepted' | 'guarded';

/** Undefined where there is no such lot in the plan. */
export async function partOfLot(
  db: Queryable,
  account: number,
  lot: number,
  part: LotPart,
): Promise<Ranges | undefined> {
  const sets: Record<LotPart, string> = {
    held: HELD,
    excepted: '(members * excepted)',
    // What was let through is told too, so that it can be kept again.
    guarded: `coalesce((select range_agg(g.members) from lot_guarded g join guard on guard.account = g.account and guard.id = g.guard
      where g.account = lot.account and g.lot = lot.id
        and (not lot.${IS_OF_FILES} or guard.kind in (${KEEP_FILES.map((kind) => `'${kind}'`).join(', ')}))), '{}')`,
  };
  const found = await row<{ members: string }>(
    db,
    `select (${sets[part]})::text as members from lot where account = $1 and id = $2 and run is null`,
    [account, lot],
  );
  return found && parseMultirange(found.members);
}

/** Which guards keep which members of a lot, and which of these were let through. */
export async function guardsOfLot(
  db: Queryable,
  account: number,
  lot: number,
): Promise<{ guards: { guard: number; members: Ranges }[]; overrides: Ranges }> {
  const found = await rows<{ guard: number; members: string }>(
    db,
    'select guard, members::text as members from lot_guarded where account = $1 and lot = $2 order by guard',
    [account, lot],
  );
  const { overrides } = await theRow<{ overrides: string }>(
    db,
    'select guard_overrides::text as overrides from lot where account = $1 and id = $2',
    [account, lot],
  );
  return {
    guards: found.map(({ guard, members }) => ({ guard, members: parseMultirange(members) })),
    overrides: parseMultirange(overrides),
  };
}

/** The union of the plan, purge before trash (after the archive or not) before what loses files in any way (`strip`): ids of live placements. */
export async function planMembers(db: Queryable, account: number): Promise<Record<PlanPart, Ranges>> {
  const found = await theRow<Record<PlanPart, string>>(
    db,
    `select coalesce(range_agg(${HELD}) filter (where fate = 'purge'), '{}')::text as purge,
       (coalesce(range_agg(${HELD}) filter (where fate in ('trash', 'archive')), '{}') - coalesce(range_agg(${HELD}) filter (where fate = 'purge'), '{}'))::text as trash,
       (coalesce(range_agg(${HELD}) filter (where ${IS_OF_FILES}), '{}') - coalesce(range_agg(${HELD}) filter (where not ${IS_OF_FILES}), '{}'))::text as strip
     from lot where account = $1 and run is null`,
    [account],
  );
  return {
    purge: parseMultirange(found.purge),
    trash: parseMultirange(found.trash),
    strip: parseMultirange(found.strip),
  };
}

export async function dropLot(db: Queryable, account: number, lot: number): Promise<boolean> {
  const dropped = await db.query('delete from lot where account = $1 and id = $2 and run is null', [account, lot]);
  return dropped.rowCount === 1;
}

/** Whether the plan holds any lot. */
export async function hasLots(db: Queryable, account: number): Promise<boolean> {
  return (await row(db, 'select 1 from lot where account = $1 and run is null limit 1', [account])) !== undefined;
}

/** Whether a lot is in the plan, and its fate and label. */
export async function planLot(
  db: Queryable,
  account: number,
  lot: number,
): Promise<{ id: number; fate: Fate; label: string; where: string | null; shrinking: Shrinking | null } | undefined> {
  return row(
    db,
    'select id, fate, label, criteria as "where", shrinking from lot where account = $1 and id = $2 and run is null and space is null',
    [account, lot],
  );
}

/** Those of these lots that a run has taken up. */
export async function carriedLots(
  db: Queryable,
  account: number,
  lots: readonly number[],
): Promise<{ id: number; label: string; where: string | null }[]> {
  return rows(
    db,
    'select id, label, criteria as "where" from lot where account = $1 and id = any($2::int[]) and run is not null order by id',
    [account, lots],
  );
}

/** Files of lots of the plan that have no checked copy outside the mailbox. */
export async function uncheckedFilesOf(db: Queryable, account: number, lots: readonly number[]): Promise<Ranges> {
  const { files } = await theRow<{ files: string }>(
    db,
    `select coalesce(range_agg(int8range(f.id, f.id + 1)), '{}')::text as files
     from lot cross join lateral (${UNCHECKED_FILES}) f
     where lot.account = $1 and lot.run is null and lot.id = any($2::int[])`,
    [account, lots],
  );
  return parseMultirange(files);
}

/** The numbers of the messages that lots of the plan hold, each once: what guards keep, and what was excepted, is not among them. */
export async function messagesOfLots(db: Queryable, account: number, lots: readonly number[]): Promise<number[]> {
  const found = await rows<{ message: number }>(
    db,
    `select distinct p.message from lot cross join ${placementsIn(HELD)}
     where lot.account = $1 and lot.run is null and lot.id = any($2::int[]) and p.gone_at is null`,
    [account, lots],
  );
  return found.map(({ message }) => message);
}

/** What a lot of the plan holds now, what guards keep left out: its messages, and their octets or those of the files that go. */
export async function amountOfLot(db: Queryable, account: number, lot: number): Promise<Amount> {
  return theRow<Amount>(
    db,
    `with held as materialized (
       select p.message, p.size from lot cross join ${placementsIn(HELD)}
       where lot.account = $1 and lot.id = $2 and p.gone_at is null)
     select (select count(*)::int from held) as messages, coalesce(case when lot.files is null
       then (select sum(size) from held)
       else (select sum(f.own_size) from held cross join lateral (
         select * from file where account = $1 and id >= held.message * 512 and id < (held.message + 1) * 512 offset 0) f
         where f.id <@ lot.files) end, 0)::bigint as bytes
     from lot where account = $1 and id = $2`,
    [account, lot],
  );
}

/** What lots are called, together. */
export async function labelsOf(db: Queryable, account: number, lots: readonly number[]): Promise<string> {
  const found = await rows<{ label: string }>(
    db,
    'select label from lot where account = $1 and id = any($2::int[]) order by place, id',
    [account, lots],
  );
  return found
    .map(({ label }) => label)
    .join(', ')
    .slice(0, 200);
}
