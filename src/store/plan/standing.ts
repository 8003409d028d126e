import type { Rhythm } from '../../core/rhythm/rhythm';
import type { StandingFate } from '../../core/standing/terms';
import type { Trial } from '../../core/standing/trial';
import { nextNumber } from '../access/accounts';
import { type Queryable, row, rows } from '../database';
import { updateRow } from '../update';

export interface Note {
  kind: string;
  detail: string;
}

/** Criteria, a fate and a rhythm: what goes by itself. */
export interface StandingLot {
  id: number;
  label: string;
  where: string;
  fate: StandingFate;
  rhythm: Rhythm;
  state: 'draft' | 'on' | 'off' | 'stopped';
  trial: Trial | null;
  triedAt: Date | null;
  /** More messages than this at one date, and it asks first. */
  most: number | null;
  purgeAfterDays: number | null;
  mail: boolean;
  /** The date that comes next, `YYYY-MM-DD`, and when that is. */
  nextOn: string | null;
  nextAt: Date | null;
  startedAt: Date | null;
  failures: number;
  createdAt: Date;
}

const COLUMNS = `id, label, criteria as "where", fate, rhythm, state, trial, tried_at as "triedAt", most,
  purge_after_days as "purgeAfterDays", mail, next_on::text as "nextOn", next_at as "nextAt", started_at as "startedAt", failures,
  created_at as "createdAt"`;

/** One date of a standing lot. */
export interface StandingDate {
  standing: number;
  day: string;
  state: 'scanning' | 'saving' | 'asking' | 'running' | 'done' | 'nothing' | 'failed' | 'declined';
  scan: number | null;
  lot: number | null;
  bag: number | null;
  run: number | null;
  messages: number;
  bytes: number;
  ceiling: number | null;
  problem: Note | null;
  endedAt: Date | null;
  purge: number | null;
}

const DATE_COLUMNS = `standing, day::text as day, state, scan, lot, bag, run, messages, bytes, ceiling, problem, ended_at as "endedAt", purge`;

export async function standingLots(db: Queryable, account: number): Promise<StandingLot[]> {
  return rows<StandingLot>(db, `select ${COLUMNS} from standing_lot where account = $1 order by id`, [account]);
}

export async function standingById(
  db: Queryable,
  account: number,
  id: number,
  { lock = false } = {},
): Promise<StandingLot | undefined> {
  return row<StandingLot>(
    db,
    `select ${COLUMNS} from standing_lot where account = $1 and id = $2 ${lock ? 'for update' : ''}`,
    [account, id],
  );
}

/** The newest dates of each standing lot, the newest first. */
export async function datesOf(db: Queryable, account: number, most: number): Promise<StandingDate[]> {
  return rows<StandingDate>(
    db,
    `select d.* from standing_lot s cross join lateral (
       select ${DATE_COLUMNS} from standing_date where account = s.account and standing = s.id order by day desc limit $2) d
     where s.account = $1 order by d.day desc`,
    [account, most],
  );
}

/** Dates of a standing lot that were gone through since it was let go by itself. */
export async function datesSince(db: Queryable, account: number, { id, startedAt }: StandingLot): Promise<number> {
  const found = await row<{ dates: number }>(
    db,
    `select count(*)::int as dates from standing_date
     where account = $1 and standing = $2 and state in ('done', 'nothing') and ended_at >= $3`,
    [account, id, startedAt],
  );
  return found?.dates ?? 0;
}

export async function createStanding(
  db: Queryable,
  account: number,
  { label, where, fate, rhythm, most, purgeAfterDays, mail }: StandingTerms,
): Promise<number> {
  const id = await nextNumber(db, account, 'standing');
  await db.query(
    `insert into standing_lot (account, id, label, criteria, fate, rhythm, most, purge_after_days, mail)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
    [account, id, label, where, fate, JSON.stringify(rhythm), most, purgeAfterDays, mail],
  );
  return id;
}

/** What a person says of a standing lot. */
export type StandingTerms = Pick<
  StandingLot,
  'label' | 'where' | 'fate' | 'rhythm' | 'most' | 'purgeAfterDays' | 'mail'
>;

const COLUMN_OF: Record<keyof StandingChange, string> = {
  label: 'label',
  where: 'criteria',
  fate: 'fate',
  rhythm: 'rhythm',
  most: 'most',
  purgeAfterDays: 'purge_after_days',
  mail: 'mail',
  state: 'state',
  trial: 'trial',
  triedAt: 'tried_at',
  nextOn: 'next_on',
  nextAt: 'next_at',
  startedAt: 'started_at',
  failures: 'failures',
};

export type StandingChange = { [Key in keyof Omit<StandingLot, 'id' | 'createdAt'>]?: StandingLot[Key] | undefined };

/** Writes what is given. */
export async function updateStanding(
  db: Queryable,
  account: number,
  id: number,
  change: StandingChange,
): Promise<void> {
  await updateRow(db, 'standing_lot', COLUMN_OF, change, 'account = $1 and id = $2', [account, id]);
}

export async function deleteStanding(db: Queryable, account: number, id: number): Promise<void> {
  await db.query('delete from standing_lot where account = $1 and id = $2', [account, id]);
}

const DATE_COLUMN_OF: Record<keyof DateChange, string> = {
  state: 'state',
  scan: 'scan',
  lot: 'lot',
  bag: 'bag',
  run: 'run',
  messages: 'messages',
  bytes: 'bytes',
  ceiling: 'ceiling',
  problem: 'problem',
  endedAt: 'ended_at',
  purge: 'purge',
  purgedAt: 'purged_at',
  notBefore: 'not_before',
};

export type DateChange = Partial<Omit<StandingDate, 'standing' | 'day'> & { purgedAt: Date | null; notBefore: Date }>;

export async function updateDate(
  db: Queryable,
  account: number,
  { standing, day }: Pick<StandingDate, 'standing' | 'day'>,
  change: DateChange,
): Promise<void> {
  const key = [account, standing, day];
  await updateRow(db, 'standing_date', DATE_COLUMN_OF, change, 'account = $1 and standing = $2 and day = $3', key);
}

/** Whether a date of a standing lot is on its way: the next one waits for it. */
const IS_OPEN = `state in ('scanning', 'saving', 'asking', 'running')`;

/** The standing lot whose date came first, locked for the transaction; other workers pass it by. */
export async function dueStanding(
  client: Queryable,
  now: Date,
): Promise<(StandingLot & { account: number }) | undefined> {
  return row(
    client,
    `select account, ${COLUMNS} from standing_lot s
     where state = 'on' and next_at <= $1 and not exists (
       select from standing_date d where d.account = s.account and d.standing = s.id and ${IS_OPEN.replace('state', 'd.state')})
     order by next_at limit 1 for update of s skip locked`,
    [now],
  );
}

/** Begins a date; false where it was begun before. */
export async function beginDate(
  client: Queryable,
  account: number,
  standing: number,
  day: string,
  now: Date,
): Promise<boolean> {
  const begun = await client.query(
    `insert into standing_date (account, standing, day, state, not_before) values ($1, $2, $3, 'scanning', $4)
     on conflict do nothing`,
    [account, standing, day, now],
  );
  return begun.rowCount === 1;
}

/**
 * What a date d waits for is still on its way: its scan, the saving of its files, the answer of a person, or its run. Each is looked up
 * by its key: as `exists` the planner may read those of all accounts instead.
 */
const WAITS = `coalesce(case d.state
  when 'scanning' then (
    select true from scan w where w.account = d.account and w.id = d.scan and w.state in ('queued', 'running') limit 1)
  when 'saving' then (
    select true from bag w join lot l on l.account = w.account and l.id = d.lot and l.run is null
    where w.account = d.account and w.id = d.bag and w.state in ('queued', 'running', 'checking', 'paused') limit 1)
  when 'asking' then (select true from lot w where w.account = d.account and w.id = d.lot and w.run is null limit 1)
  else (
    select true from run w where w.account = d.account and w.id = d.run and w.state in ('queued', 'running', 'paused') limit 1)
  end, false)`;

/** A date that can go on, locked for the transaction; other workers pass it by. */
export async function nextOpenDate(
  client: Queryable,
  now: Date,
): Promise<(StandingDate & { account: number }) | undefined> {
  return row(
    client,
    `select account, ${DATE_COLUMNS} from standing_date d where ${IS_OPEN} and not_before <= $1 and not ${WAITS}
     order by not_before limit 1 for update skip locked`,
    [now],
  );
}

/** A date whose messages have lain in the trash as long as its standing lot says, locked for the transaction. */
export async function nextUnpurged(
  client: Queryable,
  now: Date,
): Promise<(StandingDate & { account: number }) | undefined> {
  return row(
    client,
    `select account, ${DATE_COLUMNS} from standing_date d
     where state = 'done' and purged_at is null and exists (
       select from standing_lot s where s.account = d.account and s.id = d.standing and s.state = 'on'
         and d.ended_at + make_interval(days => s.purge_after_days) <= $1)
     order by ended_at limit 1 for update skip locked`,
    [now],
  );
}

/** What became of a lot: whether it is in the plan, or the run that took it up. */
export async function fateOfLot(
  db: Queryable,
  account: number,
  lot: number,
): Promise<{ run: number | null } | undefined> {
  return row(db, 'select run from lot where account = $1 and id = $2', [account, lot]);
}
