import type { Authenticity } from '../../core/unsubscribe/authenticity';
import type { Ways } from '../../core/unsubscribe/ways';
import { type Queryable, row, rows } from '../database';
import { SENDER_KEY } from '../index/bulk-senders';
import type { Note } from './standing';

/** How a sender says that one leaves it, and what came of asking. */
export interface Ask {
  sender: string;
  /** The message that says so, as a placement. */
  placement: number;
  readAt: Date;
  inJunk: boolean;
  ways: Ways;
  authenticity: Authenticity;
  state: 'queued' | 'sending' | 'asked' | 'failed' | 'unclear' | null;
  how: 'one-click' | 'mail' | null;
  askedAt: Date | null;
  problem: Note | null;
}

const COLUMNS = `sender, placement::int as placement, read_at as "readAt", in_junk as "inJunk", ways, authenticity, state, how,
  asked_at as "askedAt", problem`;

export async function asksOf(db: Queryable, account: number): Promise<Ask[]> {
  return rows<Ask>(db, `select ${COLUMNS} from ask where account = $1`, [account]);
}

/** Writes down how a sender says that one leaves it; what was asked before stays. */
export async function saveWays(
  db: Queryable,
  account: number,
  ask: Pick<Ask, 'sender' | 'placement' | 'readAt' | 'inJunk' | 'ways' | 'authenticity'>,
): Promise<void> {
  await db.query(
    `insert into ask (account, sender, placement, read_at, in_junk, ways, authenticity) values ($1, $2, $3, $4, $5, $6, $7)
     on conflict (account, sender) do update set placement = excluded.placement, read_at = excluded.read_at,
       in_junk = excluded.in_junk, ways = excluded.ways, authenticity = excluded.authenticity`,
    [
      account,
      ask.sender,
      ask.placement,
      ask.readAt,
      ask.inJunk,
      JSON.stringify(ask.ways),
      JSON.stringify(ask.authenticity),
    ],
  );
}

/** Held by who queues senders and by who ends the job that asks them. */
export async function lockAsks(db: Queryable, account: number): Promise<void> {
  await db.query('select 1 from account where id = $1 for no key update', [account]);
}

/** Asks none of those who wait. */
export async function endQueued(db: Queryable, account: number, problem: Note): Promise<void> {
  await db.query(`update ask set state = 'failed', problem = $2 where account = $1 and state = 'queued'`, [
    account,
    JSON.stringify(problem),
  ]);
}

/** Has senders asked; those that are on their way stay so. How many were taken up. */
export async function queueAsks(
  db: Queryable,
  account: number,
  asks: readonly { sender: string; how: 'one-click' | 'mail' }[],
): Promise<number> {
  const queued = await db.query(
    `update ask set state = 'queued', how = given.how, problem = null
     from unnest($2::text[], $3::text[]) as given (sender, how)
     where ask.account = $1 and ask.sender = given.sender and (ask.state is null or ask.state not in ('queued', 'sending'))`,
    [account, asks.map(({ sender }) => sender), asks.map(({ how }) => how)],
  );
  return queued.rowCount ?? 0;
}

/** What died while it asked: nobody knows whether it was heard, and it is not asked again by itself. */
export async function endBroken(db: Queryable, account: number, now: Date): Promise<void> {
  await db.query(
    `update ask set state = 'unclear', asked_at = $2, problem = $3 where account = $1 and state = 'sending'`,
    [
      account,
      now,
      JSON.stringify({ kind: 'worker-died', detail: 'Tamsel stopped while it asked. It may have been heard.' }),
    ],
  );
}

/** Takes the next sender that is to be asked; from now on it counts as asked, whatever happens. */
export async function takeQueued(db: Queryable, account: number): Promise<Ask | undefined> {
  return row<Ask>(
    db,
    `update ask set state = 'sending' where account = $1 and sender = (
       select sender from ask where account = $1 and state = 'queued' order by sender limit 1 for update)
     returning ${COLUMNS}`,
    [account],
  );
}

export async function endAsk(
  db: Queryable,
  account: number,
  sender: string,
  end: { state: 'asked' | 'failed' | 'unclear'; askedAt: Date | null; problem: Note | null },
): Promise<void> {
  await db.query(
    `update ask set state = $3, asked_at = coalesce($4, asked_at), problem = $5 where account = $1 and sender = $2`,
    [account, sender, end.state, end.askedAt, end.problem === null ? null : JSON.stringify(end.problem)],
  );
}

/** A message whose header is to be read: where it lies, and how large it is. */
export interface ToRead {
  sender: string;
  placement: number;
  uid: number;
  size: number;
  serverName: string;
  uidValidity: number;
  inJunk: boolean;
  /** An address of the domain whose word it has to be: the author's, or the list's. */
  from: string;
}

/** Where the newest messages of senders lie, by folder. */
export async function messagesToRead(db: Queryable, account: number, placements: readonly number[]): Promise<ToRead[]> {
  return rows<ToRead>(
    db,
    `select ${SENDER_KEY} as sender, p.id::int as placement, p.uid, p.size, f.server_name as "serverName",
       g.uid_validity as "uidValidity", coalesce(f.role = 'junk', false) as "inJunk", case when ${SENDER_KEY} like '%@%' then m.from_address else '@' || m.list_folded end as "from"
     from placement p join message m on m.account = p.account and m.id = p.message
     join generation g on g.account = p.account and g.id = p.generation and g.closed_at is null
     join folder f on f.account = p.account and f.id = p.folder
     where p.account = $1 and p.id = any($2::bigint[]) and p.gone_at is null order by f.id, p.uid`,
    [account, placements],
  );
}
