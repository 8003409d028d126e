import * as clock from '../../clock/clock';
import { type Queryable, row, rows } from '../database';
import { countedBytes } from './counted-bytes';

/** One look at how full the server says the account is; null where it does not tell. Octets and messages. */
export interface Reading {
  at: Date;
  used: number | null;
  limit: number | null;
  messages: number | null;
  messageLimit: number | null;
}

export async function saveReading(db: Queryable, account: number, reading: Omit<Reading, 'at'>): Promise<void> {
  await db.query(
    `insert into reading (account, at, used, storage_limit, messages, message_limit)
     values ($1, clock_timestamp() + $6 * interval '1 millisecond', $2, $3, $4, $5)`,
    [account, reading.used, reading.limit, reading.messages, reading.messageLimit, clock.ahead()],
  );
}

const COLUMNS = 'at, used, storage_limit as "limit", messages, message_limit as "messageLimit"';

export async function lastReading(db: Queryable, account: number): Promise<Reading | undefined> {
  return row<Reading>(db, `select ${COLUMNS} from reading where account = $1 order by at desc limit 1`, [account]);
}

/** The newest readings of the server's figure, oldest first. */
export async function readingsOf(db: Queryable, account: number, most: number): Promise<{ at: Date; used: number }[]> {
  return rows(
    db,
    `select at, used from (select at, used from reading where account = $1 and used is not null order by at desc limit $2) newest order by at`,
    [account, most],
  );
}

/** Notes beside the newest reading what is counted now: for when a scan that began with it is done. */
export async function noteCounted(db: Queryable, account: number): Promise<void> {
  await db.query(
    `update reading set counted = $2
     where account = $1 and used is not null and at = (select max(at) from reading where account = $1)`,
    [account, await countedBytes(db, account)],
  );
}

/**
 * Octets that are not mail in each of some months: the middle one of its readings, since a figure that lags is wrong for a day or
 * two. Null for a month without one. Negative where the server counts less than we do.
 *
 * @param starts of the months, the oldest first, and the end of the last.
 */
export async function notMailByMonth(
  db: Queryable,
  account: number,
  starts: readonly Date[],
): Promise<(number | null)[]> {
  const found = await rows<{ month: number; bytes: number }>(
    db,
    `select width_bucket(at, $2::timestamptz[]) as month, percentile_disc(0.5) within group (order by used - counted) as bytes
     from reading where account = $1 and counted is not null and at >= $3 and at < $4 group by 1`,
    [account, starts, starts[0], starts.at(-1)],
  );
  const months: (number | null)[] = starts.slice(1).map(() => null);
  for (const { month, bytes } of found) months[month - 1] = bytes;
  return months;
}
