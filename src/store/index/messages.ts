import { CATEGORIES, type Category } from '../../core/categories/categories';
import type { Criteria } from '../../core/criteria/tree';
import type { Amount } from '../../core/level/level';
import { flagNames } from '../../core/mailbox/flags';
import { printMultirange, type Ranges } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import { type Queryable, row, rows, theRow } from '../database';
import { filesOfMessage } from './files';
import { foldersOf } from './folders';
import { type Scope, select } from './selection';
import { THEIR_MESSAGE } from './spans';

export type MessageOrder = 'size' | 'date' | 'from' | 'subject' | 'placed';
export type Direction = 'up' | 'down';

/** A message as lists show it. */
export interface ListedMessage {
  id: number;
  folder: string;
  uid: number;
  from: { name: string; address: string } | null;
  subject: string;
  date: Date | null;
  received: Date;
  size: number;
  flags: string[];
  category: Category;
  keywords: string[];
  files: { name: string; type: string; size: number }[];
  flaws: string[];
  /** Path it came from, where it lies in the trash and our own run took it there. */
  origin: string | null;
  trashedBy: number | null;
  /** When it came into its folder, as far as is known. */
  placedAt: Date | null;
}

interface MessageRow {
  id: number;
  folder: number;
  uid: number;
  fromName: string;
  fromAddress: string;
  subject: string;
  sent: Date | null;
  received: Date;
  size: number;
  flags: number;
  category: number;
  keywords: string[];
  files: { name: string; type: string; size: number }[];
  flaws: string[];
  origin: number | null;
  trashedBy: number | null;
  placedAt: Date | null;
}

const COLUMNS = `p.id, p.folder, p.uid, m.from_name as "fromName", m.from_address as "fromAddress", m.subject, m.sent, p.received,
  p.size, p.flags, p.category, p.keywords, ${filesOfMessage('p.account', 'p.message')} as files, m.flaws, p.origin, p.trashed_by as "trashedBy", p.placed_at as "placedAt"`;

/** What each order compares, and how its value is written into a cursor. */
const ORDERS: Record<MessageOrder, { expression: string; type: string }> = {
  size: { expression: 'p.size', type: 'bigint' },
  date: { expression: 'coalesce(m.sent, p.received)', type: 'timestamptz' },
  from: { expression: `coalesce(nullif(m.from_name_folded, ''), m.from_address_folded)`, type: 'text' },
  subject: { expression: 'm.subject_folded', type: 'text' },
  placed: { expression: `coalesce(p.placed_at, '-infinity')`, type: 'timestamptz' },
};

/** A place in an ordered list: after this value and id. */
export interface Cursor {
  value: string;
  id: number;
}

export interface Page {
  order: MessageOrder;
  direction: Direction;
  limit: number;
  after: Cursor | undefined;
  /** Leaves out all but these. */
  within?: Ranges | undefined;
  /** Leaves out what came into its folder at this instant or later. */
  placedBefore?: Date | undefined;
}

/** Messages and octets that match. */
export async function amountOf(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
  placedBefore?: Date,
): Promise<Amount> {
  const { sql, values } = await select(db, account, criteria, scope, now, false);
  const placed = placedBefore ? ` and p.placed_at < $${values.length + 1}::timestamptz` : '';
  return theRow<Amount>(
    db,
    `select count(*)::int as messages, coalesce(sum(p.size), 0)::bigint as bytes ${sql}${placed}`,
    placedBefore ? [...values, placedBefore] : values,
  );
}

/** The ids of all messages that match. */
export async function matchingIds(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
): Promise<number[]> {
  const { sql, values } = await select(db, account, criteria, scope, now, false);
  return (await rows<{ id: number }>(db, `select p.id ${sql}`, values)).map(({ id }) => id);
}

/** The numbers of messages, each once, that match criteria or whose placements are given. */
export async function messagesMatching(
  db: Queryable,
  account: Account,
  named: Criteria | { ids: readonly number[] },
  scope: Scope,
  now: Date,
  except: readonly number[] = [],
): Promise<number[]> {
  const isList = 'ids' in named;
  const { sql, values } = await select(db, account, isList ? { kind: 'everything' } : named, scope, now, false);
  const found = await rows<{ message: number }>(
    db,
    `select distinct p.message ${sql} and p.id <> all($${values.length + 1}::bigint[])
     ${isList ? `and p.id = any($${values.length + 2}::bigint[])` : ''}`,
    [...values, except, ...(isList ? [named.ids] : [])],
  );
  return found.map(({ message }) => message);
}

/** The ids of a scope in the order of their subjects. */
export async function idsBySubject(db: Queryable, account: Account, scope: Scope): Promise<number[]> {
  const { sql, values } = await select(db, account, { kind: 'everything' }, scope, new Date(0), true);
  const found = await rows<{ id: number }>(db, `select p.id ${sql} order by m.subject_folded, p.id`, values);
  return found.map(({ id }) => id);
}

/** Messages and octets of each category, the trash left out. */
export async function amountsByCategory(db: Queryable, account: Account): Promise<({ category: Category } & Amount)[]> {
  const { sql, values } = await select(db, account, { kind: 'everything' }, 'mail', new Date(0), false);
  const found = await rows<{ category: number } & Amount>(
    db,
    `select p.category, count(*)::int as messages, sum(p.size)::bigint as bytes ${sql} group by p.category`,
    values,
  );
  return CATEGORIES.map((category, number) => {
    const { messages, bytes } = found.find((one) => one.category === number) ?? { messages: 0, bytes: 0 };
    return { category, messages, bytes };
  });
}

/** The messages with these ids that are there, in no order. */
export async function messagesById(db: Queryable, account: Account, ids: readonly number[]): Promise<ListedMessage[]> {
  const { sql, values, folders } = await select(db, account, { kind: 'everything' }, 'all', new Date(0), true);
  const found = await rows<MessageRow>(db, `select ${COLUMNS} ${sql} and p.id = any($${values.length + 1}::bigint[])`, [
    ...values,
    ids,
  ]);
  const paths = new Map(folders.map(({ id, path }) => [id, path]));
  return found.map((message) => listed(message, paths));
}

/** A page of the messages that match, and where the next begins. */
export async function pageOfMessages(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
  page: Page,
): Promise<{ messages: ListedMessage[]; next: Cursor | undefined }> {
  const { sql, values, folders } = await select(db, account, criteria, scope, now, true);
  const { expression, type } = ORDERS[page.order];
  const way = page.direction === 'up' ? { sort: 'asc', beyond: '>' } : { sort: 'desc', beyond: '<' };
  const parameters = [...values];
  let more = '';
  if (page.within) {
    parameters.push(printMultirange(page.within));
    more = `and p.id <@ $${parameters.length}::int8multirange`;
  }
  if (page.placedBefore) {
    parameters.push(page.placedBefore);
    more += ` and p.placed_at < $${parameters.length}::timestamptz`;
  }
  if (page.after) {
    parameters.push(page.after.value, page.after.id);
    const value = `$${parameters.length - 1}::${type}`;
    more += ` and (${expression} ${way.beyond} ${value} or (${expression} = ${value} and p.id > $${parameters.length}::bigint))`;
  }
  parameters.push(page.limit + 1);
  const found = await rows<MessageRow & { key: string }>(
    db,
    `select ${COLUMNS}, (${expression})::text as key ${sql} ${more}
     order by ${expression} ${way.sort}, p.id limit $${parameters.length}`,
    parameters,
  );
  const paths = new Map(folders.map(({ id, path }) => [id, path]));
  const shown = found.slice(0, page.limit);
  const last = shown.at(-1);
  return {
    messages: shown.map((message) => listed(message, paths)),
    next: found.length > page.limit && last ? { value: last.key, id: last.id } : undefined,
  };
}

function listed(message: MessageRow, paths: ReadonlyMap<number, string>): ListedMessage {
  const { fromName: name, fromAddress: address } = message;
  return {
    id: message.id,
    folder: paths.get(message.folder) ?? '',
    uid: message.uid,
    from: name === '' && address === '' ? null : { name, address },
    subject: message.subject,
    date: message.sent,
    received: message.received,
    size: message.size,
    flags: flagNames(message.flags),
    category: CATEGORIES[message.category] as Category,
    keywords: message.keywords,
    files: message.files,
    flaws: message.flaws,
    origin: message.origin === null ? null : (paths.get(message.origin) ?? null),
    trashedBy: message.trashedBy,
    placedAt: message.placedAt,
  };
}

/** One message with all that is known, and where on the server it lies. */
export interface MessageDetails extends ListedMessage {
  messageId: string;
  references: string[];
  to: { name: string; address: string }[];
  listId: string;
  bulkFields: Record<string, string>;
  serverName: string;
  uidValidity: number;
}

interface DetailsRow extends MessageRow {
  messageId: string;
  referenceIds: string;
  recipients: { name: string; address: string }[];
  listId: string;
  bulkFields: Record<string, string>;
  uidValidity: number;
}

export async function messageById(db: Queryable, account: number, id: number): Promise<MessageDetails | undefined> {
  const found = await row<DetailsRow>(
    db,
    `select ${COLUMNS}, m.message_id as "messageId", m.reference_ids as "referenceIds", m.recipients, m.list_id as "listId",
            m.bulk_fields as "bulkFields", g.uid_validity as "uidValidity"
     from placement p join message m on m.account = p.account and m.id = p.message
     join generation g on g.account = p.account and g.id = p.generation
     where p.account = $1 and p.id = $2 and p.gone_at is null`,
    [account, id],
  );
  if (!found) return undefined;
  const folders = await foldersOf(db, account);
  return {
    ...listed(found, new Map(folders.map(({ id, path }) => [id, path]))),
    messageId: found.messageId,
    references: found.referenceIds.split(' ').filter(Boolean),
    to: found.recipients.map(({ name, address }) => ({ name, address })),
    listId: found.listId,
    bulkFields: found.bulkFields,
    serverName: folders.find((folder) => folder.id === found.folder)?.serverName ?? '',
    uidValidity: found.uidValidity,
  };
}

/** A message of a run: for what was done, `folder`, `uid` and `uidValidity` are those it was done at. */
export interface RunMessage extends ListedMessage {
  messageId: string;
  uidValidity: number;
  outcome: string;
}

/** The messages of a run, tombstones included, in the order of their ids. */
export async function messagesOfRun(
  db: Queryable,
  account: number,
  run: number,
  afterId: number,
  limit: number,
): Promise<RunMessage[]> {
  const found = await rows<
    MessageRow & { outcome: string; messageId: string; uidValidity: number; atFolder: number; atUid: number }
  >(
    db,
    // Sets are cut to the page before anything is asked of its rows. A range holds a member at least, so no more are needed.
    `with members as materialized (
       select span from run, unnest(members * int8multirange(int8range($3 + 1, null))) as span where account = $1 and id = $2 limit $4),
     page as materialized (
       select p.* from members cross join lateral (
         select * from placement where account = $1 and id >= lower(span) and id < upper(span) order by id limit $4) p
       order by p.id limit $4),
     bounds as materialized (select int8multirange(int8range(min(id), max(id) + 1)) as ids from page),
     done as materialized (
       select d.id, d.uid, b.generation from bounds, run_batch b, unnest(b.ids, b.uids) as d (id, uid)
       where b.account = $1 and b.run = $2 and b.state = 'done' and b.members && bounds.ids and bounds.ids @> d.id),
     -- Batches of the time before UIDs were kept have ranges alone.
     ranges as materialized (
       select range_agg(done_members * bounds.ids) as ids from bounds, run_batch where account = $1 and run = $2),
     left_out as materialized (
       select reason, members * bounds.ids as members from bounds, run_left where account = $1 and run = $2)
     select ${COLUMNS}, m.message_id as "messageId", g.uid_validity as "uidValidity", g.folder as "atFolder",
       coalesce(done.uid, p.uid) as "atUid",
       case when done.id is not null or p.id <@ (select ids from ranges) then 'done'
            else coalesce((select reason from left_out l where p.id <@ l.members), 'waiting') end as outcome
     from page p ${THEIR_MESSAGE}
     left join done on done.id = p.id
     join generation g on g.account = p.account and g.id = coalesce(done.generation, p.generation)
     order by p.id`,
    [account, run, afterId, limit],
  );
  const paths = new Map(
    (await rows<{ id: number; path: string }>(db, 'select id, path from folder where account = $1', [account])).map(
      ({ id, path }) => [id, path],
    ),
  );
  return found.map(({ outcome, messageId, uidValidity, atFolder, atUid, ...message }) => ({
    ...listed({ ...message, folder: atFolder, uid: atUid }, paths),
    messageId,
    uidValidity,
    outcome,
  }));
}
