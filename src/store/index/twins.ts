import { candidateGroups, type Groups } from '../../core/repeats/candidates';
import type { TwinRows } from '../../core/repeats/twins';
import type { Account } from '../access/accounts';
import { type Database, overWholeAccount, type Queryable, row, rows, theRow, transaction } from '../database';
import { unpacked } from './packed';
import { mailFolders } from './selection';

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

/**
 * What was found to exist more than once: proven by reading it, or one message by the word of the server, which gave the copies one
 * EMAILID (RFC 8474 §5.1).
 */
export async function readTwins(db: Queryable, account: Account): Promise<TwinRows> {
  // Where no message has such an identifier, none has two places.
  const isShared = await row(db, 'select 1 from message where account = $1 and email_id is not null limit 1', [
    account.id,
  ]);
  const shared = `union all select p.message, null, null, null from placement p
    where p.account = $1 and p.gone_at is null and p.folder = any($2::int[])
      and not exists (select from twin_digest d where d.account = $1 and d.message = p.message and d.twin is not null)
    group by p.message having count(*) > 1`;
  // One sort brings copies together. Digests are handed over as they are: comparing them here is less than ranking them there.
  const packed = await theRow<Record<Exclude<keyof TwinRows, 'twin'> | 'key', Buffer | null>>(
    db,
    `with named as materialized (
       select message, twin, octets, kept from twin_digest where account = $1 and twin is not null ${isShared ? shared : ''}),
     live as (
       select p.id, p.message, p.folder, p.size, p.received, p.flags,
         exists (select from unnest(p.keywords) as word where word ~* $3)::int as conflict, coalesce(named.twin, ${UNREAD}) as key,
         coalesce(named.octets, ${UNREAD}) as octets, coalesce(named.kept, ${UNREAD}) as kept
       from named cross join lateral (
         select * from placement where account = $1 and message = named.message and gone_at is null offset 0) p
       where p.folder = any($2::int[])),
     counted as (select *, count(*) over (partition by key) as copies from live)
     select string_agg(int4send(id::int), ''::bytea) as id, string_agg(int4send(message::int), ''::bytea) as message,
       string_agg(int4send(folder), ''::bytea) as folder, string_agg(float8send(size::float8), ''::bytea) as size,
       string_agg(float8send(floor(date_part('epoch', received))), ''::bytea) as received, string_agg(int4send(flags), ''::bytea) as flags,
       string_agg(int4send(conflict), ''::bytea) as "ofConflict",
       string_agg(key, ''::bytea) as key, string_agg(octets, ''::bytea) as octets, string_agg(kept, ''::bytea) as kept
     from (select * from counted where copies > 1 order by key, id) together`,
    [account.id, await mailFolders(db, account), CONFLICT_KEYWORD],
  );
  const ints = (name: keyof typeof packed) => unpacked(packed[name], 4) as Int32Array;
  const floats = (name: keyof typeof packed) => unpacked(packed[name], 8) as Float64Array;
  const twin = numbered(packed.key);
  return {
    id: ints('id'),
    message: ints('message'),
    folder: ints('folder'),
    size: floats('size'),
    received: floats('received'),
    flags: ints('flags'),
    ofConflict: ints('ofConflict'),
    twin,
    octets: withinGroups(packed.octets, twin),
    kept: withinGroups(packed.kept, twin),
  };
}

/** Stands for the digest of a message that was not read: it is told by its number, and equal to that of no message that was. */
const UNREAD = `decode(repeat('00', 24), 'hex') || int8send(p.message)`;
const DIGEST_OCTETS = 32;
/** Keywords of one side of a conflict, as a pattern of PostgreSQL (core/repeats/folders has the words). */
const CONFLICT_KEYWORD = 'conflict|konflikt|conflit';

/** Numbers of digests that lie one behind the other, counted up where one is another than the one before. */
export function numbered(digests: Buffer | null): Int32Array {
  const numbers = new Int32Array((digests?.length ?? 0) / DIGEST_OCTETS);
  for (let row = 1; row < numbers.length; row++) {
    const at = row * DIGEST_OCTETS;
    const isSame = (digests as Buffer).compare(digests as Buffer, at - DIGEST_OCTETS, at, at, at + DIGEST_OCTETS) === 0;
    numbers[row] = (numbers[row - 1] as number) + (isSame ? 0 : 1);
  }
  return numbers;
}

/** Numbers by which digests are the same or not, within each group. */
function withinGroups(digests: Buffer | null, groups: Int32Array): Int32Array {
  const numbers = new Int32Array(groups.length);
  let known = new Map<string, number>();
  for (let row = 0; row < groups.length; row++) {
    if (row > 0 && groups[row] !== groups[row - 1]) known = new Map();
    const digest = (digests as Buffer).toString('latin1', row * DIGEST_OCTETS, (row + 1) * DIGEST_OCTETS);
    const number = known.get(digest) ?? known.size;
    known.set(digest, number);
    numbers[row] = number;
  }
  return numbers;
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
