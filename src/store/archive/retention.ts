import { WHOLE_MESSAGE } from '../../core/files/file';
import type { Amount } from '../../core/level/level';
import { parseMultirange, type Ranges } from '../../core/sets/ranges';
import { overWholeAccount, type Queryable, row, theRow } from '../database';

/** How an account has its mail saved every night. */
export interface Retention {
  years: number;
  /** Of the holds. */
  reason: string;
  begunAt: Date;
  nextAt: Date;
  /** When all that was there was last saved; null while it never was. */
  lastAt: Date | null;
  problem: { kind: string; detail: string } | null;
}

export async function retentionOf(db: Queryable, account: number): Promise<Retention | undefined> {
  return row<Retention>(
    db,
    `select years, reason, begun_at as "begunAt", next_at as "nextAt", last_at as "lastAt", problem from retention where account = $1`,
    [account],
  );
}

/** Has an account's mail saved every night, from now on, or changes how. */
export async function beginRetention(
  db: Queryable,
  account: number,
  { years, reason }: Pick<Retention, 'years' | 'reason'>,
): Promise<void> {
  await db.query(
    `insert into retention (account, years, reason) values ($1, $2, $3)
     on conflict (account) do update set years = excluded.years, reason = excluded.reason, next_at = now(), problem = null`,
    [account, years, reason],
  );
}

/** Saves no more; what was saved stays held. */
export async function endRetention(db: Queryable, account: number): Promise<void> {
  await db.query('delete from retention where account = $1', [account]);
}

/** What bags of the retention export hold: messages that were read back, and their octets. */
export async function keptByRetention(db: Queryable, account: number): Promise<Amount> {
  return theRow<Amount>(
    db,
    `select count(*)::int as messages, coalesce(sum(c.size), 0)::bigint as bytes from bag b
     join bag_file c on c.account = b.account and c.bag = b.id
     where b.account = $1 and b.journal and b.state = 'done' and c.reason is null`,
    [account],
  );
}

/** An account whose turn it is. */
export interface DueRetention extends Pick<Retention, 'years' | 'reason'> {
  account: number;
  /** The scan that was waited for, and how it stands; null before one was asked for. */
  scan: { state: string } | null;
}

/** The account whose turn came first, kept from others until the transaction is over; while its scan goes on it is passed by. */
export async function dueRetention(client: Queryable): Promise<DueRetention | undefined> {
  return row<DueRetention>(
    client,
    `select t.account, t.years, t.reason,
       (select json_build_object('state', s.state) from scan s where s.account = t.account and s.id = t.scan) as scan
     from retention t join account a on a.id = t.account
     where t.next_at <= now() and not exists (
       select from scan s where s.account = t.account and s.id = t.scan and s.state in ('queued', 'running'))
     order by t.next_at limit 1 for update of t skip locked`,
  );
}

/** Waits for a scan before what is new is told. */
export async function awaitScan(client: Queryable, account: number, scan: number): Promise<void> {
  await client.query('update retention set scan = $2 where account = $1', [account, scan]);
}

/**
 * Goes on in the next night, at three o'clock of the account; or, where something went wrong, in an hour.
 *
 * @param isSaved whether all that is there is saved already.
 */
export async function postponeRetention(
  client: Queryable,
  account: number,
  timeZone: string,
  { isSaved, problem }: { isSaved: boolean; problem: Retention['problem'] },
): Promise<void> {
  await client.query(
    `update retention set scan = null, problem = $4, last_at = case when $3 then now() else last_at end,
       next_at = case when $5 then now() + interval '1 hour'
         else (date_trunc('day', (now() at time zone $2) - interval '3 hours') + interval '1 day 3 hours') at time zone $2 end
     where account = $1`,
    [account, timeZone, isSaved, problem ? JSON.stringify(problem) : null, problem !== null],
  );
}

/** Times that a message may be tried that the server never gives as it says. */
const MOST_TRIES = 3;

/** Whether a bag of the retention export is still being written; and one that failed, which is taken up again. */
export async function openJournal(db: Queryable, account: number): Promise<{ id: number; state: string } | undefined> {
  return row(
    db,
    `select id, state from bag where account = $1 and journal and state not in ('done', 'cancelled', 'erased') order by id limit 1`,
    [account],
  );
}

/** Messages of the mailbox that came in within so many years and lie in no bag of the retention export, as what a bag is to hold. */
export async function newForRetention(db: Queryable, account: number, years: number): Promise<Ranges> {
  await overWholeAccount(db);
  const { files } = await theRow<{ files: string }>(
    db,
    `with kept as materialized (
       select c.file from bag b join bag_file c on c.account = b.account and c.bag = b.id
       where b.account = $1 and b.journal and b.state = 'done' and c.reason is null
       union
       select c.file from bag b join bag_file c on c.account = b.account and c.bag = b.id
       where b.account = $1 and b.journal and c.reason in ('differs', 'unreadable') group by c.file having count(*) >= ${MOST_TRIES}),
     wanted as materialized (
       select distinct p.message * 512 + ${WHOLE_MESSAGE} as file from placement p
       join folder f on f.account = p.account and f.id = p.folder
       where p.account = $1 and p.gone_at is null and f.gone_at is null and not f.repeats
         and p.received >= now() - make_interval(years => $2))
     select coalesce(range_agg(int8range(file, file + 1)), '{}')::text as files from (
       select w.file from wanted w left join kept k on k.file = w.file where k.file is null order by w.file) fresh`,
    [account, years],
  );
  return parseMultirange(files);
}

export async function markAsJournal(db: Queryable, account: number, bag: number): Promise<void> {
  await db.query('update bag set journal = true where account = $1 and id = $2', [account, bag]);
}

/** How a bag of the retention export is held; undefined of any other. The years count from the day on which it was made. */
export async function holdOfJournal(
  db: Queryable,
  account: number,
  bag: number,
): Promise<{ until: string; reason: string } | undefined> {
  return row(
    db,
    `select (current_date + make_interval(years => t.years))::date::text as until, t.reason from bag b
     join retention t on t.account = b.account where b.account = $1 and b.id = $2 and b.journal`,
    [account, bag],
  );
}

/** Notes that all that was there is saved. */
export async function noteRetained(db: Queryable, account: number): Promise<void> {
  await db.query('update retention set last_at = now() where account = $1', [account]);
}
