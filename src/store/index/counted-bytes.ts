import { type Queryable, theRow } from '../database';

/**
 * Sum of the sizes with each message counted once, however many folders it lies in: one message is one EMAILID, or where
 * the server has none, one Message-ID of one size.
 */
export async function bytesCountedOnce(db: Queryable, account: number): Promise<number> {
  const { bytes } = await theRow<{ bytes: number }>(
    db,
    `select coalesce(sum(size), 0)::bigint as bytes from (
       select distinct on (key, p.size) p.size from placement p
       join message m on m.account = p.account and m.id = p.message,
       lateral (select coalesce(m.email_id, nullif(m.message_id, ''), m.id::text) as key) k
       where p.account = $1 and p.gone_at is null) once`,
    [account],
  );
  return bytes;
}

/** Sum of the sizes of all that is in the index, trash included; exact to the octet. */
export async function countedBytes(db: Queryable, account: number): Promise<number> {
  const { bytes } = await theRow<{ bytes: number }>(
    db,
    'select coalesce(sum(size), 0)::bigint as bytes from placement where account = $1 and gone_at is null',
    [account],
  );
  return bytes;
}
