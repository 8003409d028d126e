import type { Echo } from '../../core/repeats/echoes';
import type { Account } from '../access/accounts';
import { type Database, overWholeAccount, type Queryable, rows, theRow, transaction } from '../database';
import { mailFolders } from './selection';

/** Messages of a thread that are read: more than that is a list, not a conversation. */
const MOST_OF_THREAD = 200;
/** Octets of a message from which on it is not read whole to be looked at as a letter. */
export const MOST_OF_LETTER = 2 ** 20;

/** A message of a thread that is to be read, where it lies. */
export interface Letter {
  message: number;
  thread: number;
  generation: number;
  uid: number;
  size: number;
}

/** Threads of several messages outside the trash ($2) that have changed since their texts were compared, if ever. */
const UNREAD_THREADS = `live as (
    select m.thread, m.id, p.size from placement p join message m on m.account = p.account and m.id = p.message
    where p.account = $1 and p.gone_at is null and p.folder = any($2::int[]) and m.thread is not null),
  thread as (
    select thread, count(distinct id)::int as messages, max(id) as last, sum(size) - max(size) as win,
      sum(size) filter (where size <= ${MOST_OF_LETTER}) as bytes from live group by thread having count(distinct id) > 1),
  unread as (
    select t.* from thread t left join thread_read r on r.account = $1 and r.thread = t.thread
    where r.thread is null or r.messages <> t.messages or r.last <> t.last)`;

/** How much has to be read to compare the texts of threads. */
export async function unreadThreads(
  database: Database,
  account: Account,
): Promise<{ messages: number; bytes: number }> {
  return transaction(database, async (client) => {
    await overWholeAccount(client);
    return theRow(
      client,
      `with ${UNREAD_THREADS} select coalesce(sum(messages), 0)::int as messages, coalesce(sum(bytes), 0)::bigint as bytes from unread`,
      [account.id, await mailFolders(client, account)],
    );
  });
}

/**
 * The messages of threads whose texts are to be compared, those threads first from which most could be won, as far as a budget of octets
 * reaches; the first in any case. Those of a thread lie together.
 */
export async function lettersToRead(database: Database, account: Account, budget: number): Promise<Letter[]> {
  return transaction(database, async (client) => {
    await overWholeAccount(client);
    return rows<Letter>(
      client,
      `with ${UNREAD_THREADS},
       chosen as (
         select * from (select *, sum(bytes) over (order by win desc, thread) - bytes as before from unread) ordered
         where before = 0 or before + bytes <= $3),
       placed as (
         select distinct on (m.id) m.id as message, m.thread, p.generation, p.uid::int8 as uid, p.size, c.win
         from chosen c join message m on m.account = $1 and m.thread = c.thread
         join placement p on p.account = $1 and p.message = m.id and p.gone_at is null and p.folder = any($2::int[])
         where p.size <= ${MOST_OF_LETTER} order by m.id, p.id),
       counted as (select *, row_number() over (partition by thread order by message desc) as back from placed)
       select message, thread, generation, uid, size from counted where back <= ${MOST_OF_THREAD} order by win desc, thread, message`,
      [account.id, await mailFolders(client, account), budget],
    );
  });
}

/** When messages were written, as far as is known: seconds since 1970. */
export async function writtenAt(
  db: Queryable,
  account: number,
  messages: readonly number[],
): Promise<Map<number, number>> {
  const found = await rows<{ id: number; at: number }>(
    db,
    `select m.id, date_part('epoch', coalesce(m.sent, (select min(received) from placement p where p.account = $1 and p.message = m.id))) as at
     from unnest($2::bigint[]) as wanted (id) join message m on m.account = $1 and m.id = wanted.id`,
    [account, messages],
  );
  return new Map(found.map(({ id, at }) => [id, at]));
}

/** Keeps what was found in threads, instead of what was found there before. */
export async function saveEchoes(
  db: Queryable,
  account: Account,
  threads: readonly number[],
  echoes: readonly Echo[],
): Promise<void> {
  const folders = await mailFolders(db, account);
  await db.query(
    `delete from echo e using message m where e.account = $1 and m.account = $1 and m.id = e.message and m.thread = any($2::bigint[])`,
    [account.id, threads],
  );
  await db.query(
    `insert into echo (account, message, holder) select $1, * from unnest($2::bigint[], $3::bigint[]) on conflict do nothing`,
    [account.id, echoes.map(({ message }) => message), echoes.map(({ holder }) => holder)],
  );
  await db.query(
    `insert into thread_read (account, thread, messages, last)
     select $1, m.thread, count(distinct m.id)::int, max(m.id) from message m
     join placement p on p.account = $1 and p.message = m.id and p.gone_at is null and p.folder = any($3::int[])
     where m.account = $1 and m.thread = any($2::bigint[]) group by m.thread
     on conflict (account, thread) do update set messages = excluded.messages, last = excluded.last`,
    [account.id, threads, folders],
  );
}

/** A message that a later one quotes in full, where it lies. */
export interface EchoRow {
  message: number;
  id: number;
  folder: number;
  size: number;
  /** Placements of messages that hold it. */
  holders: number[];
}

/** What stands whole in a later message, outside the trash: the latest first. */
export async function readEchoes(db: Queryable, account: Account): Promise<EchoRow[]> {
  return rows<EchoRow>(
    db,
    `select e.message, p.id, p.folder, p.size, array_agg(h.id::float8 order by hm.sent desc nulls last, h.id) as holders
     from echo e
     join lateral (select * from message where account = $1 and id = e.message offset 0) m on true
     join lateral (select * from message where account = $1 and id = e.holder offset 0) hm on true
     join lateral (select * from placement where account = $1 and message = e.message and gone_at is null offset 0) p on p.folder = any($2::int[])
     join lateral (select * from placement where account = $1 and message = e.holder and gone_at is null offset 0) h on h.folder = any($2::int[])
     where e.account = $1 group by e.message, p.id, p.folder, p.size, m.sent
     order by m.sent desc nulls last, e.message desc, p.id`,
    [account.id, await mailFolders(db, account)],
  );
}
