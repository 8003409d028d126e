import type { Judged } from '../../core/warnings/judge';
import { SAYS_FULL } from '../../core/warnings/words';
import { type Queryable, rows } from '../database';

/** A message that may say that the mailbox is full. */
export interface FullWarning {
  /** Its placement. */
  id: number;
  subject: string;
  fromName: string;
  from: string;
  received: Date;
  folder: string;
  inJunk: boolean;
  serverName: string;
  uidValidity: number;
  uid: number;
  size: number;
  /** Null: not looked at yet. */
  judged: Judged | null;
  /** What the server said about that time, octets; null where nobody asked then. */
  figure: { used: number; limit: number } | null;
}

/** Messages that are looked at: the newest. */
const MOST = 50;
/** Days before and after a message in which what the server said counts as said at that time. */
const ABOUT_DAYS = 3;

/**
 * The newest messages whose subjects say that a mailbox is full, but for what was sent from here.
 *
 * @param stated the limit that a person stated, for a server that tells none.
 */
export async function fullWarnings(db: Queryable, account: number, stated: number | null): Promise<FullWarning[]> {
  return rows<FullWarning>(
    db,
    `select found.*, (select w.judged from full_warning w where w.account = $1 and w.placement = found.id) as judged,
       (select json_build_object('used', r.used, 'limit', coalesce(r.storage_limit, $4::bigint)) from reading r
        where r.account = $1 and r.used is not null and coalesce(r.storage_limit, $4::bigint) is not null
          and r.at between found.received - make_interval(days => ${ABOUT_DAYS}) and found.received + make_interval(days => ${ABOUT_DAYS})
        order by abs(extract(epoch from r.at - found.received)) limit 1) as figure
     from (
       select p.id::int as id, m.subject, m.from_name as "fromName", m.from_address as "from", p.received, f.path as folder,
         coalesce(f.role = 'junk', false) as "inJunk", f.server_name as "serverName", g.uid_validity as "uidValidity", p.uid, p.size
       from message m
       join placement p on p.account = m.account and p.message = m.id and p.gone_at is null
       join folder f on f.account = p.account and f.id = p.folder and not f.repeats and f.role is distinct from 'sent'
         and f.role is distinct from 'drafts'
       join generation g on g.account = p.account and g.id = p.generation and g.closed_at is null
       where m.account = $1 and m.subject_folded ~ $2 and m.subject_folded ~ $3
       order by p.received desc, p.id desc limit ${MOST}) found
     order by found.received desc, found.id desc`,
    [account, ...SAYS_FULL, stated],
  );
}

export async function saveJudged(db: Queryable, account: number, id: number, judged: Judged): Promise<void> {
  await db.query(
    `insert into full_warning (account, placement, judged) values ($1, $2, $3)
     on conflict (account, placement) do update set judged = excluded.judged`,
    [account, id, JSON.stringify(judged)],
  );
}
