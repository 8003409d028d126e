import { domainOf } from '../../core/mailbox/email-address';
import type { RankedAuthor } from '../../core/senders/first-ranking';
import { fold } from '../../core/text';
import { type Queryable, rows } from '../database';

/** Replaces the first ranking of an account. */
export async function saveFirstRanking(
  db: Queryable,
  account: number,
  authors: readonly RankedAuthor[],
): Promise<void> {
  await dropFirstRanking(db, account);
  const column = <T>(pick: (author: RankedAuthor) => T) => authors.map(pick);
  await db.query(
    `insert into first_ranking (account, address, domain, name, messages, bytes, unseen, first, last)
     select $1, r.address, r.domain, r.name, r.messages, r.bytes, r.unseen, to_timestamp(r.first / 1000), to_timestamp(r.last / 1000)
     from unnest($2::text[], $3::text[], $4::text[], $5::int[], $6::bigint[], $7::int[], $8::float8[], $9::float8[])
       as r (address, domain, name, messages, bytes, unseen, first, last)`,
    [
      account,
      column(({ address }) => address),
      column(({ address }) => fold(domainOf(address))),
      column(({ name }) => name),
      column(({ messages }) => messages),
      column(({ bytes }) => bytes),
      column(({ unseen }) => unseen),
      column(({ first }) => first),
      column(({ last }) => last),
    ],
  );
}

/** Once the messages themselves are in, they tell more. */
export async function dropFirstRanking(db: Queryable, account: number): Promise<void> {
  await db.query('delete from first_ranking where account = $1', [account]);
}

export interface FirstRanked {
  key: string;
  name: string;
  messages: number;
  bytes: number;
  unseen: number;
  first: Date;
  last: Date;
}

/** The senders of the outline with the most octets. */
export async function firstRanked(
  db: Queryable,
  account: number,
  by: 'address' | 'domain',
  limit: number,
): Promise<FirstRanked[]> {
  return rows<FirstRanked>(
    db,
    `select ${by} as key, (array_agg(name order by bytes desc))[1] as name, sum(messages)::int as messages,
       sum(bytes)::bigint as bytes, sum(unseen)::int as unseen, min(first) as first, max(last) as last
     from first_ranking where account = $1 group by 1 order by 4 desc, 1 limit $2`,
    [account, limit],
  );
}
