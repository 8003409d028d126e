import { candidateGroups, type Groups } from '../../core/repeats/candidates';
import type { TwinRows } from '../../core/repeats/twins';
import type { Account } from '../access/accounts';
import { type Database, overWholeAccount, type Queryable, row, rows, theRow, transaction } from '../database';
import { foldersOf } from './folders';
import { unpacked } from './packed';
import { foldersInScope } from './selection';

/** Messages outside the trash that may exist more than once, with what was found of them. */
export interface Candidates {
  groups: Groups;
  /** Ids of placements and of their messages, a row each. */
  id: Int32Array;
  message: Int32Array;
  size: Float64Array;
  /** 0: not compared yet. -1: can't be read. Else rows with the same number are copies of each other. */
  twin: Int32Array;
}

/**
 * Two copies have Message-ID, author and date in common. A message without a Message-ID is told by its subject and size instead.
 */
const KEY = `concat_ws(E'\\n', m.message_id, m.from_address_folded, m.sent, case when m.message_id = '' then concat(p.size, E'\\n', m.subject_folded) end)`;

/** Finds what may exist more than once, by the index alone. */
export async function twinCandidates(database: Database, account: Account): Promise<Candidates> {
  return transaction(database, async (client) => {
    await overWholeAccount(client);
    const packed = await theRow<Record<'key' | 'id' | 'message' | 'size' | 'twin', Buffer | null>>(
      client,
      `select string_agg(int8send(r.key), ''::bytea) as key, string_agg(int4send(r.id::int), ''::bytea) as id,
         string_agg(int4send(r.message::int), ''::bytea) as message, string_agg(float8send(r.size::float8), ''::bytea) as size,
         string_agg(int4send(r.twin), ''::bytea) as twin
       from (
         select p.id, p.message, p.size, hashtextextended(${KEY}, 0) as key,
           case when d.message is null then 0 when d.twin is null then -1
             else (dense_rank() over (order by d.twin nulls last))::int end as twin
         from placement p join message m on m.account = p.account and m.id = p.message
         left join twin_digest d on d.account = p.account and d.message = p.message
         where p.account = $1 and p.gone_at is null and p.folder = any($2::int[]) order by p.id) r`,
      [account.id, await mailFolders(client, account)],
    );
    const keys = unpacked(packed.key, 4) as Int32Array;
    const half = (at: 0 | 1) => Int32Array.from({ length: keys.length / 2 }, (_, row) => keys[2 * row + at] as number);
    const size = unpacked(packed.size, 8) as Float64Array;
    return {
      groups: candidateGroups({ high: half(0), low: half(1), size }),
      id: unpacked(packed.id, 4) as Int32Array,
      message: unpacked(packed.message, 4) as Int32Array,
      size,
      twin: unpacked(packed.twin, 4) as Int32Array,
    };
  });
}

/** Ids of the folders whose messages may be copies: all but the trash. */
async function mailFolders(db: Queryable, account: Account): Promise<number[]> {
  return foldersInScope(await foldersOf(db, account.id), 'mail', account.settings.trashFolder);
}

/**
 * What was found to exist more than once: proven by reading it, or one message by the word of the server, which gave the copies one
 * EMAILID (RFC 8474 §5.1).
 */
export async function readTwins(db: Queryable, account: Account): Promise<TwinRows> {
  // Where no message has such an identifier, none has two places.
  const isShared = await row(db, 'select 1 from message where account = $1 and email_id is not null limit 1', [
    account.id,
  ]);
  const shared = `union select message from placement where account = $1 and gone_at is null and folder = any($2::int[])
    group by message having count(*) > 1`;
  const packed = await theRow<Record<keyof TwinRows, Buffer | null>>(
    db,
    `with named as materialized (
       select message from twin_digest where account = $1 and twin is not null ${isShared ? shared : ''}),
     live as materialized (
       select p.id, p.message, p.folder, p.size, p.received, p.flags, d.twin, d.octets, d.kept
       from named cross join lateral (
         select * from placement where account = $1 and message = named.message and gone_at is null offset 0) p
       left join twin_digest d on d.account = p.account and d.message = p.message
       where p.folder = any($2::int[])),
     keyed as (
       select *, coalesce(twin, int8send(message)) as key, coalesce(octets, int8send(message)) as whole, coalesce(kept, int8send(message)) as rest
       from live),
     grouped as (select *, count(*) over (partition by key) as copies from keyed)
     select string_agg(int4send(id::int), ''::bytea) as id, string_agg(int4send(message::int), ''::bytea) as message,
       string_agg(int4send(folder), ''::bytea) as folder, string_agg(float8send(size::float8), ''::bytea) as size,
       string_agg(float8send(floor(date_part('epoch', received))), ''::bytea) as received, string_agg(int4send(flags), ''::bytea) as flags,
       string_agg(int4send(twin_rank), ''::bytea) as twin, string_agg(int4send(octets_rank), ''::bytea) as octets,
       string_agg(int4send(kept_rank), ''::bytea) as kept
     from (
       select *, (dense_rank() over (order by key))::int as twin_rank, (dense_rank() over (order by whole))::int as octets_rank,
         (dense_rank() over (order by rest))::int as kept_rank
       from grouped where copies > 1 order by twin_rank, id) ranked`,
    [account.id, await mailFolders(db, account)],
  );
  const ints = (name: keyof TwinRows) => unpacked(packed[name], 4) as Int32Array;
  const floats = (name: keyof TwinRows) => unpacked(packed[name], 8) as Float64Array;
  return {
    id: ints('id'),
    message: ints('message'),
    folder: ints('folder'),
    size: floats('size'),
    received: floats('received'),
    flags: ints('flags'),
    twin: ints('twin'),
    octets: ints('octets'),
    kept: ints('kept'),
  };
}

/** A message that is to be read, where it lies. */
export interface ToCompare {
  message: number;
  generation: number;
  uid: number;
  size: number;
}

/** Where messages lie, each once, by folder and in the order in which the server has them. */
export async function placesOf(db: Queryable, account: number, messages: readonly number[]): Promise<ToCompare[]> {
  return rows<ToCompare>(
    db,
    `select message, generation, uid::int8 as uid, size from (
       select distinct on (p.message) p.message, p.generation, p.uid, p.size
       from unnest($2::bigint[]) as wanted (message) cross join lateral (
         select * from placement where account = $1 and message = wanted.message and gone_at is null offset 0) p
       order by p.message, p.id) places
     order by generation, uid`,
    [account, messages],
  );
}

/** What came of reading a message; null where it can't be read. */
export interface Compared {
  message: number;
  twin: Buffer | null;
  octets: Buffer | null;
  kept: Buffer | null;
}

export async function saveCompared(db: Queryable, account: number, compared: readonly Compared[]): Promise<void> {
  await db.query(
    `insert into twin_digest (account, message, twin, octets, kept)
     select $1, * from unnest($2::bigint[], $3::bytea[], $4::bytea[], $5::bytea[])
     on conflict (account, message) do update set twin = excluded.twin, octets = excluded.octets, kept = excluded.kept`,
    [
      account,
      compared.map(({ message }) => message),
      compared.map(({ twin }) => twin),
      compared.map(({ octets }) => octets),
      compared.map(({ kept }) => kept),
    ],
  );
}
