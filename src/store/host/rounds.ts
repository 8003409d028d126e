import type { RoundState, RoundTerms, Tried } from '../../core/host/round';
import type { Amount } from '../../core/level/level';
import { type Database, type Queryable, row, rows, theRow, transaction } from '../database';
import { updateRow } from '../update';

/** A note of what went wrong. */
export interface RoundProblem {
  kind: string;
  detail: string;
}

/** One decision of an operator for several mailboxes. */
export type Round = RoundTerms & {
  operator: number;
  id: number;
  reason: string;
  state: 'trying' | 'working' | 'stopped';
  createdAt: Date;
  decidedAt: Date | null;
};

/** A mailbox of a round. */
export interface RoundMailbox extends Amount {
  operator: number;
  round: number;
  mailbox: number;
  user: string;
  account: number | null;
  state: RoundState;
  scan: number | null;
  lot: number | null;
  bag: number | null;
  run: number | null;
  standing: number | null;
  tried: Tried | null;
  done: Amount;
  problem: RoundProblem | null;
}

const ROUND = `r.operator, r.id, r.kind, r.terms, r.reason, r.state, r.created_at as "createdAt", r.decided_at as "decidedAt"`;
const MAILBOX = `m.operator, m.round, m.mailbox, m.user_name as "user", m.account, m.state, m.scan, m.lot, m.bag, m.run, m.standing,
  m.messages, m.bytes, m.tried, json_build_object('messages', m.done_messages, 'bytes', m.done_bytes) as done, m.problem`;

/** Of a mailbox m of a round: something is still to come without anybody's doing. */
const GETS_ON = `m.state in ('waiting', 'opening', 'scanning', 'queued', 'working')`;
/** Of a mailbox m of a round: it takes room at its host. */
const IS_UNDER_WAY = `m.state in ('opening', 'scanning', 'working')`;

/**
 * Of an account: a round needs its credential, or may while its operator's password is kept: to be carried out, or for its standing
 * lot.
 */
export function isNeededByRound(account: string): string {
  return `exists (select 1 from round_mailbox m where m.account = ${account} and (${GETS_ON}
    or exists (select 1 from host_operator_credential c where c.operator = m.operator) and (m.state = 'ready'
      or exists (select 1 from standing_lot s where s.account = m.account and s.id = m.standing and s.state = 'on'))))`;
}

/**
 * The mailbox of an operator for which a round works in an account, where its operator signed in since the credential of the account
 * was kept, or where none is.
 *
 * @param standing a standing lot that the round made there; null for any round.
 */
export async function roundOfAccount(
  db: Queryable,
  account: number,
  standing: number | null,
): Promise<{ operator: number; mailbox: number } | undefined> {
  return row(
    db,
    `select m.operator, m.mailbox from round_mailbox m
     left join host_operator_credential o on o.operator = m.operator
     left join credential c on c.account = m.account
     where m.account = $1 and ($2::int is null or m.standing = $2)
       and (c.account is null or c.stored_at < o.stored_at) order by m.round desc limit 1`,
    [account, standing],
  );
}

/** How the mailboxes of a round stand. */
export interface RoundSums {
  /** How many are in which state. */
  states: Partial<Record<RoundState, number>>;
  /** What would go from those that are ready, and what went. */
  asked: Amount;
  done: Amount;
  /** What its standing lots took so far, and how many of them are on. */
  on: number;
  taken: Amount;
}

/** The rounds of an operator with their sums, the newest first. */
export async function roundsOf(db: Queryable, operator: number, most: number): Promise<(Round & RoundSums)[]> {
  return rows(db, `${SUMMED} where r.operator = $1 order by r.id desc limit $2`, [operator, most]);
}

/** Sums are made of the rows of one round at a time: the plan reads them by their key. */
const SUMMED = `select ${ROUND}, s.*
  from round r cross join lateral (
    select (select coalesce(json_object_agg(c.state, c.count), '{}') from (
        select state, count(*)::int as count from round_mailbox where operator = r.operator and round = r.id group by state) c) as states,
      json_build_object('messages', coalesce(sum(m.messages) filter (where m.state in ('ready', 'queued', 'working')), 0),
        'bytes', coalesce(sum(m.bytes) filter (where m.state in ('ready', 'queued', 'working')), 0)) as asked,
      json_build_object('messages', coalesce(sum(m.done_messages), 0), 'bytes', coalesce(sum(m.done_bytes), 0)) as done,
      coalesce(sum((st.state = 'on')::int), 0)::int as "on",
      json_build_object('messages', coalesce(sum(t.messages), 0), 'bytes', coalesce(sum(t.bytes), 0)) as taken
    from round_mailbox m
    left join standing_lot st on st.account = m.account and st.id = m.standing
    left join lateral (
      select sum(u.done_messages)::int as messages, sum(u.done_bytes)::bigint as bytes
      from standing_date d join run u on u.account = d.account and u.id = d.run
      where d.account = m.account and d.standing = m.standing) t on m.standing is not null
    where m.operator = r.operator and m.round = r.id) s`;

export async function summedRound(
  db: Queryable,
  operator: number,
  id: number,
): Promise<(Round & RoundSums) | undefined> {
  return row(db, `${SUMMED} where r.operator = $1 and r.id = $2`, [operator, id]);
}

/** A round without its sums, which cost as much as it has mailboxes. @param lock keeps others from deciding about it for the transaction. */
export async function roundById(
  db: Queryable,
  operator: number,
  id: number,
  { lock = false } = {},
): Promise<Round | undefined> {
  return row<Round>(
    db,
    `select ${ROUND} from round r where r.operator = $1 and r.id = $2 ${lock ? 'for update' : ''}`,
    [operator, id],
  );
}

/** The mailboxes of a round, by name. */
export async function mailboxesOfRound(
  db: Queryable,
  operator: number,
  round: number,
  { lock = false } = {},
): Promise<RoundMailbox[]> {
  return rows<RoundMailbox>(
    db,
    `select ${MAILBOX} from round_mailbox m where m.operator = $1 and m.round = $2 order by m.user_name, m.mailbox ${lock ? 'for update' : ''}`,
    [operator, round],
  );
}

/**
 * Makes a round of mailboxes, which are tried as there is room at their hosts, in a transaction of the caller's.
 *
 * @returns the number of the round, and how many mailboxes are in it: those that are in another open round are not.
 */
export async function createRound(
  db: Queryable,
  operator: number,
  { kind, terms, reason }: RoundTerms & { reason: string },
  mailboxes: readonly number[],
  now: Date,
): Promise<{ id: number; mailboxes: number }> {
  const { id } = await theRow<{ id: number }>(
    db,
    'update host_operator set next_round = next_round + 1 where id = $1 returning next_round - 1 as id',
    [operator],
  );
  await db.query('insert into round (operator, id, kind, terms, reason, created_at) values ($1, $2, $3, $4, $5, $6)', [
    operator,
    id,
    kind,
    JSON.stringify(terms),
    reason,
    now,
  ]);
  const made = await db.query(
    `insert into round_mailbox (operator, round, mailbox, host, user_name, not_before)
     select operator, $2, id, host, user_name, $4 from host_mailbox where operator = $1 and id = any($3::int[])
     on conflict do nothing`,
    [operator, id, mailboxes, now],
  );
  return { id, mailboxes: made.rowCount ?? 0 };
}

const COLUMN_OF = {
  account: 'account',
  state: 'state',
  scan: 'scan',
  lot: 'lot',
  bag: 'bag',
  run: 'run',
  standing: 'standing',
  messages: 'messages',
  bytes: 'bytes',
  tried: 'tried',
  doneMessages: 'done_messages',
  doneBytes: 'done_bytes',
  problem: 'problem',
  notBefore: 'not_before',
} as const;

export type RoundChange = Partial<
  Omit<RoundMailbox, 'operator' | 'round' | 'mailbox' | 'user' | 'done'> & {
    doneMessages: number;
    doneBytes: number;
    notBefore: Date;
  }
>;

/** Writes what is given of a mailbox of a round. */
export async function updateRoundMailbox(
  db: Queryable,
  { operator, round, mailbox }: Pick<RoundMailbox, 'operator' | 'round' | 'mailbox'>,
  change: RoundChange,
): Promise<void> {
  const key = [operator, round, mailbox];
  await updateRow(db, 'round_mailbox', COLUMN_OF, change, 'operator = $1 and round = $2 and mailbox = $3', key);
}

/** How many accounts the rounds of an operator made, or found. */
export async function accountsOfRounds(db: Queryable, operator: number): Promise<number> {
  const { accounts } = await theRow<{ accounts: number }>(
    db,
    'select count(distinct account)::int as accounts from round_mailbox where operator = $1',
    [operator],
  );
  return accounts;
}

/** Decides about a round. */
export async function decideRound(
  db: Queryable,
  operator: number,
  id: number,
  state: 'working' | 'stopped',
  now: Date,
): Promise<void> {
  await db.query('update round set state = $3, decided_at = coalesce(decided_at, $4) where operator = $1 and id = $2', [
    operator,
    id,
    state,
    now,
  ]);
}

/**
 * What a mailbox m of a round waits for is still on its way: its sign-in, its scan, the bag that it is saved in, or its run. Each is
 * looked up by its key: as `exists` the planner may read those of all accounts instead.
 */
const WAITS = `coalesce(case
  when m.state = 'opening' then (
    select true from job j where j.account = m.account and j.kind = 'open' and j.subject = 0 and j.done_at is null limit 1)
  when m.state = 'scanning' then (
    select true from scan w where w.account = m.account and w.id = m.scan and w.state in ('queued', 'running') limit 1)
  when m.run is not null then (
    select true from run w where w.account = m.account and w.id = m.run and w.state in ('queued', 'running', 'paused') limit 1)
  else (
    select true from bag w where w.account = m.account and w.id = m.bag
      and w.state in ('queued', 'running', 'checking', 'paused') limit 1) end, false)`;

/** A mailbox that is under way and can go on, locked for the transaction; other workers pass it by. */
export async function nextUnderWay(client: Queryable, now: Date): Promise<RoundMailbox | undefined> {
  return row<RoundMailbox>(
    client,
    `select ${MAILBOX} from round_mailbox m where ${IS_UNDER_WAY} and m.not_before <= $1 and not ${WAITS}
     order by m.not_before limit 1 for update skip locked`,
    [now],
  );
}

/** Any number, the same for all workers: who begins with a mailbox waits for the one before. */
const BEGIN_LOCK = 7_466_737;

/** Begins with mailboxes for which there is room at their hosts; whether with any. */
export async function beginRoundMailboxes(database: Database, now: Date, perHost: number): Promise<boolean> {
  return transaction(database, async (client) => {
    const waits = `m.state in ('waiting', 'queued') and m.not_before <= $1`;
    if (!(await row(client, `select 1 from round_mailbox m where ${waits} limit 1`, [now]))) return false;
    // Else two workers would each see room for all of it at one host.
    await client.query('select pg_advisory_xact_lock($1)', [BEGIN_LOCK]);
    const begun = await client.query(
      `with room as (
         select host, $2::int - (select count(*) from round_mailbox m where m.host = d.host and ${IS_UNDER_WAY}) as places
         from (select distinct m.host from round_mailbox m where ${waits}) d),
       taken as (
         select t.* from room cross join lateral (
           select m.operator, m.round, m.mailbox from round_mailbox m where m.host = room.host and ${waits}
           order by m.not_before, m.operator, m.round, m.mailbox limit greatest(room.places, 0)) t)
       update round_mailbox m set state = case m.state when 'queued' then 'working' else 'opening' end
       from taken t where m.operator = t.operator and m.round = t.round and m.mailbox = t.mailbox
         and m.state in ('waiting', 'queued')`,
      [now, perHost],
    );
    return (begun.rowCount ?? 0) > 0;
  });
}

/** Counts a try to open a mailbox; gives how many there were. */
export async function countOpening(
  client: Queryable,
  { operator, round, mailbox }: Pick<RoundMailbox, 'operator' | 'round' | 'mailbox'>,
): Promise<number> {
  const { attempts } = await theRow<{ attempts: number }>(
    client,
    'update round_mailbox set attempts = attempts + 1 where operator = $1 and round = $2 and mailbox = $3 returning attempts',
    [operator, round, mailbox],
  );
  return attempts;
}

/** The mailboxes of rounds that wait until an account is signed in to. Locked for the transaction. */
export async function openingsOf(client: Queryable, account: number): Promise<(RoundMailbox & { reason: string })[]> {
  return rows(
    client,
    `select ${MAILBOX}, r.reason from round_mailbox m join round r on r.operator = m.operator and r.id = m.round
     where m.account = $1 and m.state = 'opening' order by m.operator, m.round for update of m`,
    [account],
  );
}
