import { SIGNS } from '../../core/categories/categories';
import type { Amount } from '../../core/level/level';
import type { Account } from '../access/accounts';
import { type Queryable, rows } from '../database';

/** Senders that are told: who fills a mailbox with mailings is among the first of them. */
const MOST_SENDERS = 500;

/** Who sent a message m: its list, where people write to it, else its author. A list's identifier has no @. */
export const SENDER_KEY = `(case when (m.signs & ${SIGNS.listPost}) <> 0 and m.list_folded <> '' then m.list_folded else m.from_address_folded end)`;

/** A sender whose messages say how one stops getting them. */
export interface BulkSender extends Amount {
  /** The author's address, or the identifier of a list, folded. */
  sender: string;
  name: string;
  /** When the newest of them came. */
  last: Date;
  /** The newest of them, as a placement. */
  newest: number;
}

/**
 * Senders of the last year whose messages say how one leaves them, those with the most octets first. What lies in the trash counts:
 * it came in too.
 */
export async function bulkSenders(db: Queryable, account: Account, since: Date): Promise<BulkSender[]> {
  return rows<BulkSender>(
    db,
    `select ${SENDER_KEY} as sender,
       (array_agg(case when (m.signs & ${SIGNS.listPost}) <> 0 then '' else m.from_name end order by p.received desc, p.id desc))[1] as name,
       count(*)::int as messages, sum(p.size)::bigint as bytes, max(p.received) as last,
       (array_agg(p.id order by p.received desc, p.id desc))[1]::int as newest
     from placement p join message m on m.account = p.account and m.id = p.message
     join folder f on f.account = p.account and f.id = p.folder and not f.repeats
     where p.account = $1 and p.gone_at is null and p.received >= $2 and (m.signs & ${SIGNS.listUnsubscribe}) <> 0
       and ${SENDER_KEY} <> ''
     group by 1 order by sum(p.size) desc, 1 limit ${MOST_SENDERS}`,
    [account.id, since],
  );
}

/** What came of some senders after an instant, each of its own. */
export async function cameSince(
  db: Queryable,
  account: number,
  asked: readonly { sender: string; at: Date }[],
): Promise<Map<string, { messages: number; last: Date }>> {
  if (asked.length === 0) return new Map();
  const found = await rows<{ sender: string; messages: number; last: Date }>(
    db,
    `select a.sender, count(*)::int as messages, max(p.received) as last
     from unnest($2::text[], $3::timestamptz[]) as a (sender, at)
     join message m on m.account = $1 and ${SENDER_KEY} = a.sender
     join placement p on p.account = m.account and p.message = m.id and p.received > a.at
     join folder f on f.account = p.account and f.id = p.folder and not f.repeats
     group by a.sender`,
    [account, asked.map(({ sender }) => sender), asked.map(({ at }) => at)],
  );
  return new Map(found.map(({ sender, ...since }) => [sender, since]));
}
