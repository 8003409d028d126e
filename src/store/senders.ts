import type { Criteria } from '../core/criteria/tree';
import { FLAG_BITS } from '../core/mailbox/flags';
import type { Account } from './accounts';
import { type Queryable, rows, theRow } from './database';
import { foldersOf } from './folders';
import { type Scope, select } from './selection';

export type SenderKind = 'address' | 'domain' | 'list' | 'recipient';
export type SenderOrder = 'bytes' | 'messages' | 'month' | 'last';

/** A sender under the criteria. */
export interface Sender {
  key: string;
  name: string;
  names: string[];
  messages: number;
  bytes: number;
  /** Octets a month between its first and last message, a month at least. */
  month: number;
  first: Date;
  last: Date;
  unseen: number;
  answered: number;
  flagged: number;
  /** How often the user wrote to it. */
  written: number;
}

/** What groups, over p, m and, for recipients, r. */
const KEYS: Record<SenderKind, string> = {
  address: 'm.from_address_folded',
  domain: 'm.from_domain',
  list: 'm.list_folded',
  recipient: `lower(r ->> 'address')`,
};

const ORDERS: Record<SenderOrder, string> = { bytes: 'bytes', messages: 'messages', month: 'month', last: 'last' };

const DATE = 'coalesce(m.sent, p.received)';

/** A mean month of the Gregorian calendar in seconds. */
const MONTH_SECONDS = (365.2425 / 12) * 86_400;

/** Ranks senders under criteria. Exact: no caps, no samples. */
export async function rankSenders(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
  ranking: { by: SenderKind; order: SenderOrder; limit: number; offset: number },
): Promise<{ total: number; senders: Sender[] }> {
  const { sql, values, folders } = await select(db, account, criteria, scope, now, true);
  const sent = folders.filter(({ role }) => role === 'sent').map(({ id }) => id);
  const key = KEYS[ranking.by];
  const parameters = [...values, sent, ranking.limit, ranking.offset];
  const [sentAt, limitAt, offsetAt] = [1, 2, 3].map((index) => `$${values.length + index}`) as [string, string, string];
  const recipient = ranking.by === 'recipient';
  const source = recipient
    ? sql.replace(
        ' where ',
        ` cross join lateral jsonb_array_elements(m.recipients) r where p.folder = any(${sentAt}::int[]) and `,
      )
    : sql;
  const name = recipient ? `r ->> 'name'` : 'm.from_name';
  const writtenKey = ranking.by === 'domain' ? `lower(w ->> 'domain')` : `lower(w ->> 'address')`;
  const ranked = await rows<Sender & { total: number }>(
    db,
    `with grouped as (
       select ${key} as key, mode() within group (order by ${name}) as name, array_agg(distinct ${name}) as names,
              count(*)::int as messages, sum(p.size)::bigint as bytes, min(${DATE}) as first, max(${DATE}) as last,
              (sum(p.size) / greatest(1, extract(epoch from max(${DATE}) - min(${DATE})) / ${MONTH_SECONDS}))::float8 as month,
              count(*) filter (where p.flags & ${FLAG_BITS.seen} = 0)::int as unseen,
              count(*) filter (where p.flags & ${FLAG_BITS.answered} <> 0)::int as answered,
              count(*) filter (where p.flags & ${FLAG_BITS.flagged} <> 0)::int as flagged
       ${source} group by 1),
     page as (
       select *, count(*) over ()::int as total from grouped where key <> '' or ${ranking.by !== 'list'}
       order by ${ORDERS[ranking.order]} desc, key limit ${limitAt} offset ${offsetAt}),
     written as (
       select ${writtenKey} as key, count(*)::int as count
       from placement p join message m on m.account = p.account and m.id = p.message
       cross join lateral jsonb_array_elements(m.recipients) w
       where p.account = $1 and p.gone_at is null and p.folder = any(${sentAt}::int[]) group by 1)
     select page.*, coalesce(written.count, 0) as written from page left join written on written.key = page.key and page.key <> ''
     order by ${ORDERS[ranking.order]} desc, page.key`,
    parameters,
  );
  const total =
    ranked[0]?.total ??
    (ranking.offset === 0 ? 0 : await countSenders(db, source, key, parameters.slice(0, values.length + 1)));
  return {
    total,
    senders: ranked.map(({ total: _, ...sender }) => ({ ...sender, names: sender.names.filter(Boolean).slice(0, 20) })),
  };
}

async function countSenders(db: Queryable, source: string, key: string, values: unknown[]): Promise<number> {
  // The parameter of the sent folders has to be used, or PostgreSQL can't tell its type.
  const { total } = await theRow<{ total: number }>(
    db,
    `select count(distinct ${key})::int as total ${source} and $${values.length}::int[] is not null`,
    values,
  );
  return total;
}

/** The five newest messages of a sender, trash left out. */
export async function newestOfSender(
  db: Queryable,
  account: Account,
  by: SenderKind,
  key: string,
): Promise<{ id: number; subject: string; date: Date; size: number }[]> {
  const folders = await foldersOf(db, account.id);
  const { sql, values } = await select(db, account, { kind: 'everything' }, 'mail', new Date(0), true);
  const sent = folders.filter(({ role }) => role === 'sent').map(({ id }) => id);
  const condition =
    by === 'recipient'
      ? `p.folder = any($${values.length + 2}::int[]) and exists (select 1 from jsonb_array_elements(m.recipients) r where ${KEYS.recipient} = $${values.length + 1})`
      : `${KEYS[by]} = $${values.length + 1} and $${values.length + 2}::int[] is not null`;
  return rows(
    db,
    `select p.id, m.subject, ${DATE} as date, p.size ${sql} and ${condition} order by ${DATE} desc, p.id limit 5`,
    [...values, key, sent],
  );
}
