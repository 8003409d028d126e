import { categoryNumber } from '../../core/categories/categories';
import type { Criteria } from '../../core/criteria/tree';
import { type EvidenceFacts, evidenceOf, type Reason } from '../../core/evidence/evidence';
import { FLAG_BITS } from '../../core/mailbox/flags';
import { type GroupingKind, postingAddress } from '../../core/senders/grouping';
import { bytesAMonth, type GroupOrder } from '../../core/senders/ranking';
import type { SenderMessage } from '../../core/senders/verdict';
import type { Account } from '../access/accounts';
import { type Queryable, rows } from '../database';
import type { StoredFolder } from './folders';
import { unpacked } from './packed';
import { type Scope, type Selection, select } from './selection';

/** A sender under the criteria; its evidence over the whole mailbox. */
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
  /** 0 to 100, and why. */
  evidence: number;
  reasons: Reason[];
}

/** What groups, over p, m and, for recipients, r. */
const KEYS: Record<GroupingKind, string> = {
  address: 'm.from_address_folded',
  domain: 'm.from_domain',
  list: 'm.list_folded',
  recipient: 'r.address',
};

const DATE = 'coalesce(m.sent, p.received)';

/** Each recipient of a message once, however often it is named. */
const RECIPIENTS = `cross join lateral (
  select lower(r ->> 'address') as address, max(r ->> 'name') as name
  from jsonb_array_elements(m.recipients) r where r ->> 'address' <> '' group by 1) r`;

interface Group extends Omit<Sender, 'written' | 'evidence' | 'reasons' | 'month'> {
  letters: number;
  records: number;
  documents: number;
}

/** Groups what a selection gives. */
async function groupsOf(db: Queryable, { sql, values, folders }: Selection, by: GroupingKind): Promise<Group[]> {
  const recipient = by === 'recipient';
  const key = KEYS[by];
  const name = recipient ? 'r.name' : 'm.from_name';
  const source = recipient
    ? sql.replace(' where ', ` ${RECIPIENTS} where p.folder = any($${values.length + 1}::int[]) and `)
    : sql;
  return rows<Group>(
    db,
    `select ${key} as key, mode() within group (order by ${name}) as name, array_agg(distinct ${name}) as names,
       count(*)::int as messages, sum(p.size)::bigint as bytes, min(${DATE}) as first, max(${DATE}) as last,
       count(*) filter (where p.flags & ${FLAG_BITS.seen} = 0)::int as unseen,
       count(*) filter (where p.flags & ${FLAG_BITS.answered} <> 0)::int as answered,
       count(*) filter (where p.flags & ${FLAG_BITS.flagged} <> 0)::int as flagged,
       count(*) filter (where p.category = ${categoryNumber('letters')})::int as letters,
       count(*) filter (where p.category = ${categoryNumber('records')})::int as records,
       count(*) filter (where m.sole_document)::int as documents
     ${source} ${by === 'list' ? `and ${key} <> ''` : ''} group by 1`,
    recipient ? [...values, sentFolders(folders)] : values,
  );
}

function sentFolders(folders: readonly StoredFolder[]): number[] {
  return folders.filter(({ role }) => role === 'sent').map(({ id }) => id);
}

/** How often the user wrote to each address, or domain: messages in Sent, each once. */
async function writtenBy(
  db: Queryable,
  account: number,
  folders: readonly StoredFolder[],
  by: 'address' | 'domain',
): Promise<Map<string, number>> {
  const found = await rows<{ key: string; count: number }>(
    db,
    `select lower(r ->> $3) as key, count(distinct p.id)::int as count
     from placement p join message m on m.account = p.account and m.id = p.message
     cross join lateral jsonb_array_elements(m.recipients) r
     where p.account = $1 and p.gone_at is null and p.folder = any($2::int[]) group by 1`,
    [account, sentFolders(folders), by],
  );
  return new Map(found.map(({ key, count }) => [key, count]));
}

/** Ranks senders under criteria. Exact: no caps, no samples. */
export async function rankSenders(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
  ranking: { by: GroupingKind; order: GroupOrder },
): Promise<Sender[]> {
  const { by, order } = ranking;
  const narrowed = await select(db, account, criteria, scope, now, true);
  const groups = await groupsOf(db, narrowed, by);
  const whole =
    criteria.kind === 'everything' && scope === 'mail'
      ? groups
      : await groupsOf(db, await select(db, account, { kind: 'everything' }, 'mail', now, true), by);
  const everything = new Map(whole.map((group) => [group.key, group]));
  const written = await writtenBy(db, account.id, narrowed.folders, by === 'domain' ? 'domain' : 'address');
  const letters =
    by === 'recipient'
      ? new Map(
          (await groupsOf(db, await select(db, account, LETTERS, 'mail', now, true), 'address')).map(
            ({ key, messages }) => [key, messages],
          ),
        )
      : undefined;
  const senders = groups.map(({ letters: _, records: __, documents: ___, ...group }): Sender => {
    const all = everything.get(group.key);
    const times = group.key === '' ? 0 : (written.get(by === 'list' ? postingAddress(group.key) : group.key) ?? 0);
    const facts: EvidenceFacts | undefined = all && {
      messages: all.messages,
      written: times,
      replied: letters?.get(group.key) ?? 0,
      flagged: all.flagged,
      answered: all.answered,
      documents: all.documents,
      letters: all.letters / all.messages,
      records: all.records / all.messages,
      seen: by === 'recipient' ? 0 : 1 - all.unseen / all.messages,
      days: (now.getTime() - all.last.getTime()) / 86_400_000,
    };
    const { figure, reasons } = facts ? evidenceOf(facts) : { figure: 0, reasons: [] };
    return {
      ...group,
      names: group.names.filter(Boolean),
      month: bytesAMonth({
        bytes: group.bytes,
        first: group.first.getTime() / 1000,
        last: group.last.getTime() / 1000,
      }),
      written: times,
      evidence: figure,
      reasons,
    };
  });
  const value = (sender: Sender) => (order === 'last' ? sender.last.getTime() : sender[order]);
  return senders.sort((a, b) => value(b) - value(a) || (a.key < b.key ? -1 : 1));
}

const LETTERS: Criteria = {
  kind: 'test',
  field: 'category',
  op: '=',
  value: { type: 'text', text: 'letters' },
};

/** The messages of senders under criteria, trash left out; by key. A key without any is missing. */
export async function messagesOfSenders(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  by: GroupingKind,
  keys: readonly string[],
  now: Date,
): Promise<Map<string, SenderMessage[]>> {
  const { sql, values, folders } = await select(db, account, criteria, 'mail', now, true);
  const [wanted, sent] = [`$${values.length + 1}::text[]`, `$${values.length + 2}::int[]`];
  const source =
    by === 'recipient'
      ? sql.replace(' where ', ` ${RECIPIENTS} where p.folder = any(${sent}) and `)
      : `${sql} and ${sent} is not null`;
  const found = await rows<{ key: string; ids: Buffer; received: Buffer; dates: Buffer }>(
    db,
    `select ${KEYS[by]} as key, string_agg(int4send(p.id::int), ''::bytea order by p.id) as ids,
       string_agg(float8send(extract(epoch from p.received)), ''::bytea order by p.id) as received,
       string_agg(float8send(extract(epoch from ${DATE})), ''::bytea order by p.id) as dates
     ${source} and ${KEYS[by]} = any(${wanted}) group by 1`,
    [...values, keys, sentFolders(folders)],
  );
  return new Map(
    found.map(({ key, ...packed }) => {
      const [ids, received, dates] = [unpacked(packed.ids, 4), unpacked(packed.received, 8), unpacked(packed.dates, 8)];
      return [key, Array.from(ids, (id, at) => ({ id, received: received[at] as number, date: dates[at] as number }))];
    }),
  );
}

/** The five newest messages of a sender, trash left out. */
export async function newestOfSender(
  db: Queryable,
  account: Account,
  by: GroupingKind,
  key: string,
): Promise<{ id: number; subject: string; date: Date; size: number }[]> {
  const { sql, values, folders } = await select(db, account, { kind: 'everything' }, 'mail', new Date(0), true);
  const condition =
    by === 'recipient'
      ? `p.folder = any($${values.length + 2}::int[]) and exists (select 1 from jsonb_array_elements(m.recipients) r where lower(r ->> 'address') = $${values.length + 1})`
      : `${KEYS[by]} = $${values.length + 1} and $${values.length + 2}::int[] is not null`;
  return rows(
    db,
    `select p.id, m.subject, ${DATE} as date, p.size ${sql} and ${condition} order by ${DATE} desc, p.id limit 5`,
    [...values, key, sentFolders(folders)],
  );
}
