import type { Criteria } from '../core/criteria/tree';
import type { Amount } from '../core/level/level';
import { printMultirange, rangesOf } from '../core/sets/ranges';
import { type Account, nextNumber } from './accounts';
import { type Queryable, row, rows, theRow } from './database';
import { foldersOf } from './folders';
import { foldersInScope, type Scope, select } from './selection';

export type Fate = 'trash' | 'purge';

/** A lot of the plan with what it holds now. */
export interface Lot extends Amount {
  id: number;
  label: string;
  fate: Fate;
  where: string | null;
  createdAt: Date;
  excepted: number;
  /** What it adds to the lots before it, and what no other lot holds. */
  adds: Amount;
  only: Amount;
}

/** The live placements of a set, as a select that gives messages and bytes. */
const AMOUNT_OF = (set: string) => `
  (select row_to_json(amount) from (
     select count(*)::int as messages, coalesce(sum(p.size), 0)::bigint as bytes
     from unnest(${set}) span join placement p on p.account = lot.account and p.id >= lower(span) and p.id < upper(span) and p.gone_at is null
   ) amount)`;

/**
 * The lots of the plan, in the order in which they run and count: purge before trash, then as they were made. What a
 * lot adds is its set less the union of those before it; what only it holds, less the union of all others.
 */
export async function lotsOf(db: Queryable, account: number): Promise<Lot[]> {
  const open = await rows<Omit<Lot, keyof Amount> & { own: Amount }>(
    db,
    `with lot as (
       select *, members - excepted as held, row_number() over (order by fate = 'trash', id) as place from lot where account = $1 and run is null),
     sums as (
       select lot.*,
         coalesce((select range_agg(o.held) from lot o where o.place < lot.place), '{}') as before,
         coalesce((select range_agg(o.held) from lot o where o.place <> lot.place), '{}') as others
       from lot)
     select id, label, fate, criteria as "where", created_at as "createdAt",
       (select coalesce(sum(upper(span) - lower(span)), 0)::int from unnest(excepted) span) as excepted,
       ${AMOUNT_OF('held')} as own, ${AMOUNT_OF('held - before')} as adds, ${AMOUNT_OF('held - others')} as only
     from sums lot order by place`,
    [account],
  );
  return open.map(({ own, ...lot }) => ({ ...lot, ...own }));
}

/** Marks what matches now, less exceptions, and freezes it as a set of placements. */
export async function createLot(
  db: Queryable,
  account: Account,
  lot: {
    label: string;
    fate: Fate;
    selector: { where: Criteria; text: string } | { ids: number[] };
    except: number[];
    scope: Scope;
    now: Date;
  },
): Promise<number> {
  const id = await nextNumber(db, account.id, 'lot');
  const except = printMultirange(rangesOf(lot.except));
  if ('where' in lot.selector) {
    const { sql, values } = await select(db, account, lot.selector.where, lot.scope, lot.now, false);
    const n = values.length;
    await db.query(
      `insert into lot (account, id, label, fate, criteria, members, excepted)
       select $1::bigint, $${n + 1}, $${n + 2}, $${n + 3}, $${n + 4}, coalesce(range_agg(int8range(p.id, p.id + 1)), '{}'), $${n + 5}::int8multirange ${sql}`,
      [...values, id, lot.label, lot.fate, lot.selector.text, except],
    );
    return id;
  }
  const folders = foldersInScope(await foldersOf(db, account.id), lot.scope, account.settings.trashFolder);
  await db.query(
    `insert into lot (account, id, label, fate, members, excepted)
     select $1::bigint, $2, $3, $4, coalesce(range_agg(int8range(p.id, p.id + 1)), '{}'), $5::int8multirange
     from placement p where p.account = $1 and p.gone_at is null and p.id = any($6::bigint[]) and p.folder = any($7::int[])`,
    [account.id, id, lot.label, lot.fate, except, lot.selector.ids, folders],
  );
  return id;
}

/** False where there is no such lot in the plan. */
export async function changeLot(
  db: Queryable,
  account: number,
  lot: number,
  change: { label?: string | undefined; except?: number[] | undefined },
): Promise<boolean> {
  const changed = await db.query(
    `update lot set label = coalesce($3, label), excepted = coalesce($4::int8multirange, excepted)
     where account = $1 and id = $2 and run is null`,
    [account, lot, change.label ?? null, change.except ? printMultirange(rangesOf(change.except)) : null],
  );
  return changed.rowCount === 1;
}

export async function dropLot(db: Queryable, account: number, lot: number): Promise<boolean> {
  const dropped = await db.query('delete from lot where account = $1 and id = $2 and run is null', [account, lot]);
  return dropped.rowCount === 1;
}

/** The union of the plan, live placements only; a message in several lots counts once. */
export async function planTotal(db: Queryable, account: number): Promise<Amount> {
  return theRow<Amount>(
    db,
    `with span as (select unnest(range_agg(members - excepted)) as span from lot where account = $1 and run is null)
     select count(*)::int as messages, coalesce(sum(p.size), 0)::bigint as bytes
     from span join placement p on p.account = $1 and p.id >= lower(span) and p.id < upper(span) and p.gone_at is null`,
    [account],
  );
}

/** Whether a lot is in the plan, and its fate and label. */
export async function planLot(
  db: Queryable,
  account: number,
  lot: number,
): Promise<{ id: number; fate: Fate; label: string } | undefined> {
  return row(db, 'select id, fate, label from lot where account = $1 and id = $2 and run is null', [account, lot]);
}
