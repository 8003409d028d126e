import { hashToken } from './access/sessions';
import { type Queryable, row } from './database';

/** An account whose newest reading was not held against the threshold of its mail yet. */
export interface DueThreshold {
  account: number;
  at: Date;
  used: number;
  limit: number;
  /** Whether the level was above it at the last look. */
  above: boolean;
}

const WANTS_MAIL = `a.settings ->> 'mailTo' is not null`;

/** Locked for the transaction; other workers pass it by. */
export async function dueThreshold(client: Queryable): Promise<DueThreshold | undefined> {
  return row<DueThreshold>(
    client,
    `select a.id::int as account, r.at, r.used, r.storage_limit as "limit", coalesce(h.above, false) as above
     from account a
     cross join lateral (select at, used, storage_limit from reading where account = a.id order by at desc limit 1) r
     left join habit h on h.account = a.id
     where ${WANTS_MAIL} and a.settings ->> 'mailAbove' is not null and r.used is not null and r.storage_limit > 0
       and (h.looked_at is null or h.looked_at < date_trunc('milliseconds', r.at))
     order by a.id limit 1 for no key update of a skip locked`,
  );
}

export async function noteLook(db: Queryable, account: number, at: Date, above: boolean): Promise<void> {
  await db.query(
    `insert into habit (account, looked_at, above) values ($1, $2, $3)
     on conflict (account) do update set looked_at = excluded.looked_at, above = excluded.above`,
    [account, at, above],
  );
}

/** An account that wants a note each month and whose turn it is; `nextAt` is null before it had one. */
export interface DueNote {
  account: number;
  nextAt: Date | null;
  /** The scan that was waited for, and how it ended. */
  scan: string | null;
}

/** Locked for the transaction; other workers pass it by, and so does everybody while its scan goes on. */
export async function dueNote(client: Queryable, now: Date): Promise<DueNote | undefined> {
  return row<DueNote>(
    client,
    `select a.id::int as account, h.next_at as "nextAt", s.state as scan
     from account a left join habit h on h.account = a.id left join scan s on s.account = a.id and s.id = h.scan
     where ${WANTS_MAIL} and (a.settings ->> 'mailMonthly')::boolean and (h.next_at is null or h.next_at <= $1)
       and coalesce(s.state, '') not in ('queued', 'running')
     order by a.id limit 1 for no key update of a skip locked`,
    [now],
  );
}

export async function awaitNote(
  db: Queryable,
  account: number,
  next: { nextAt: Date; scan: number | null },
): Promise<void> {
  await db.query(
    `insert into habit (account, next_at, scan) values ($1, $2, $3)
     on conflict (account) do update set next_at = excluded.next_at, scan = excluded.scan`,
    [account, next.nextAt, next.scan],
  );
}

/** What standing lots took since an instant. */
export async function takenByItself(
  db: Queryable,
  account: number,
  since: Date,
): Promise<{ messages: number; bytes: number; asking: number }> {
  return (await row<{ messages: number; bytes: number; asking: number }>(
    db,
    `select coalesce(sum(messages) filter (where state = 'done' and ended_at >= $2), 0)::int as messages,
       coalesce(sum(bytes) filter (where state = 'done' and ended_at >= $2), 0)::bigint as bytes,
       (count(*) filter (where state = 'asking'))::int as asking
     from standing_date where account = $1`,
    [account, since],
  )) as { messages: number; bytes: number; asking: number };
}

/** Gives an account's feed a new address; the old one ends. */
export async function saveFeed(db: Queryable, account: number, secret: string): Promise<void> {
  await db.query(
    `insert into calendar_feed (account, secret_hash) values ($1, $2)
     on conflict (account) do update set secret_hash = excluded.secret_hash, made_at = now()`,
    [account, hashToken(secret)],
  );
}

export async function feedOf(db: Queryable, account: number): Promise<{ madeAt: Date } | undefined> {
  return row(db, 'select made_at as "madeAt" from calendar_feed where account = $1', [account]);
}

export async function endFeed(db: Queryable, account: number): Promise<void> {
  await db.query('delete from calendar_feed where account = $1', [account]);
}

/** Whose feed an address is. */
export async function accountOfFeed(db: Queryable, secret: string): Promise<number | undefined> {
  const found = await row<{ account: number }>(db, 'select account from calendar_feed where secret_hash = $1', [
    hashToken(secret),
  ]);
  return found?.account;
}
