import { type Queryable, row, rows } from '../database';

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
    'insert into reading (account, used, storage_limit, messages, message_limit) values ($1, $2, $3, $4, $5)',
    [account, reading.used, reading.limit, reading.messages, reading.messageLimit],
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
