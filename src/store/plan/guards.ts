import * as clock from '../../clock/clock';
import { KEEP_FILES } from '../../core/guards/guards';
import { FATES_OF_FILES } from '../../core/plan/fates';
import { printMultirange } from '../../core/sets/ranges';
import { type Account, nextNumber, nextVersion } from '../access/accounts';
import { type Queryable, row } from '../database';
import { GUARD_COLUMNS, type Guard, type Guarded, readGuarded } from '../index/guarded';

export async function guardById(db: Queryable, account: number, id: number): Promise<Guard | undefined> {
  return row<Guard>(db, `select ${GUARD_COLUMNS} from guard where account = $1 and id = $2`, [account, id]);
}

/** Gives an account the guards that are there from the beginning. */
export async function addFirstGuards(db: Queryable, account: number): Promise<void> {
  await db.query(
    `insert into guard (account, id, kind)
     select $1, built.id, built.kind from (values (1, 'flagged'), (2, 'drafts'), (3, 'correspondents')) as built (id, kind)
     on conflict do nothing`,
    [account],
  );
}

export async function createGuard(
  db: Queryable,
  account: number,
  guard: { kind: 'criteria' | 'hold'; where: string; years: number | null; reason: string },
): Promise<number> {
  const id = await nextNumber(db, account, 'guard');
  await db.query('insert into guard (account, id, kind, criteria, years, reason) values ($1, $2, $3, $4, $5, $6)', [
    account,
    id,
    guard.kind,
    guard.where,
    guard.years,
    guard.reason,
  ]);
  return id;
}

export async function switchGuard(db: Queryable, account: number, id: number, active: boolean): Promise<void> {
  await db.query('update guard set active = $3 where account = $1 and id = $2', [account, id, active]);
}

/** Ends a hold for good; it stays on record with the reason. */
export async function liftHold(db: Queryable, account: number, id: number, reason: string): Promise<void> {
  await db.query(
    'update guard set active = false, lifted_at = now(), lift_reason = $3 where account = $1 and id = $2',
    [account, id, reason],
  );
}

/** Removes a guard of the user's own that is no hold. */
export async function dropGuard(db: Queryable, account: number, id: number): Promise<void> {
  await db.query(`delete from guard where account = $1 and id = $2 and kind = 'criteria'`, [account, id]);
}

/** Locks the account and counts its version up: what guards keep is part of the state of the index. */
export async function guardsChanged(db: Queryable, account: Account): Promise<void> {
  await nextVersion(db, account.id);
  await applyGuards(db, account, await readGuarded(db, account, clock.now()));
}

/**
 * Takes what the guards keep now out of lots of the plan, those with these numbers or all; what none keeps any more is
 * in again.
 */
export async function applyGuards(
  db: Queryable,
  account: Account,
  { sets }: Guarded,
  lots?: readonly number[],
): Promise<void> {
  const which = 'lot.account = $1 and lot.run is null and ($2::int[] is null or lot.id = any($2))';
  await db.query(`delete from lot_guarded g using lot where ${which} and g.account = lot.account and g.lot = lot.id`, [
    account.id,
    lots ?? null,
  ]);
  await db.query(
    `insert into lot_guarded (account, lot, guard, members)
     select lot.account, lot.id, s.guard, lot.members * s.members
     from lot, unnest($3::int[], $4::int8multirange[]) as s (guard, members)
     where ${which} and lot.members && s.members`,
    [account.id, lots ?? null, sets.map(({ guard }) => guard), sets.map(({ members }) => printMultirange(members))],
  );
  await db.query(
    `update lot set guarded =
       coalesce((select range_agg(g.members) from lot_guarded g join guard on guard.account = g.account and guard.id = g.guard
                 where g.account = lot.account and g.lot = lot.id and guard.kind <> 'hold'
                   and (lot.fate <> all($4::text[]) or guard.kind = any($3::text[]))), '{}') - lot.guard_overrides
       + coalesce((select range_agg(g.members) from lot_guarded g join guard on guard.account = g.account and guard.id = g.guard
                   where g.account = lot.account and g.lot = lot.id and guard.kind = 'hold'), '{}')
     where ${which}`,
    [account.id, lots ?? null, KEEP_FILES, FATES_OF_FILES],
  );
}
