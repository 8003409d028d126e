import type { MessagePlace } from '../../core/archive/message-place';
import { CATEGORIES, type Category } from '../../core/categories/categories';
import { criteriaToSql } from '../../core/criteria/sql';
import type { Criteria } from '../../core/criteria/tree';
import { WHOLE_MESSAGE } from '../../core/files/file';
import type { Amount } from '../../core/level/level';
import { flagNames } from '../../core/mailbox/flags';
import type { Ranges } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import { overWholeAccount, type Queryable, rows, theRow } from '../database';
import { filesOfMessage } from '../index/files';
import type { ListedMessage } from '../index/messages';
import { hasAllWords } from '../index/word-index';
import type { FileAmount } from './bags';

/** A message of the archive, as it was when it was saved. */
export interface ArchivedMessage extends Omit<ListedMessage, 'origin' | 'trashedBy' | 'placedAt'> {
  bag: number;
  /** Of the index. */
  message: number;
}

/** What a bag’s whole messages are, in the order of their places: what was saved of them, and the placement or file that they were read from. */
const OF_BAG = `from bag_file s left join placement p on p.account = s.account and p.id = s.placement
  left join folder d on d.account = s.account and d.id = p.folder
  left join brought_message i on i.account = s.account and i.bag = s.bag and i.file = s.file
  join message m on m.account = s.account and m.id = s.file / 512
  where s.account = $1 and s.bag = $2 and s.file % 512 = ${WHOLE_MESSAGE} and s.reason is null`;
const FOLDER = 'coalesce(d.path, i.folder)';

/** Enters the messages of a bag that is whole into the archive. */
export async function enterArchived(db: Queryable, account: number, bag: number): Promise<void> {
  await overWholeAccount(db);
  await db.query(
    `with missing as (
       select distinct ${FOLDER} as path ${OF_BAG} and not exists (select from archive_folder a where a.account = $1 and a.path = ${FOLDER})),
     numbered as (select path, row_number() over (order by path) as number from missing),
     taken as (
       update account set next_archive_folder = next_archive_folder + (select count(*) from missing) where id = $1
       returning next_archive_folder - (select count(*) from missing) as first)
     insert into archive_folder (account, id, path) select $1, taken.first + number - 1, path from numbered, taken`,
    [account, bag],
  );
  await db.query(
    `with found as materialized (
       select row_number() over (order by s.path, s.at, s.file) as number, s.file / 512 as message, ${FOLDER} as path,
         coalesce(p.uid, 0) as uid, s.encoded, coalesce(p.received, i.received) as received,
         coalesce(m.sent, p.received, i.received) as dated, coalesce(p.flags, i.flags) as flags,
         coalesce(p.keywords, i.keywords) as keywords, coalesce(p.category, i.category) as category ${OF_BAG}),
     taken as (
       update account set next_archived = next_archived + (select count(*) from found) where id = $1
       returning next_archived - (select count(*) from found) as first)
     insert into archived (account, id, bag, message, folder, uid, size, received, dated, flags, keywords, category)
     select $1, taken.first + number - 1, $2, message, a.id, uid, encoded, received, dated, flags, keywords, category
     from found join archive_folder a on a.account = $1 and a.path = found.path, taken`,
    [account, bag],
  );
  // So that nobody has to count them each time.
  await db.query(
    `update bag_part c set (messages, octets) = (
       select count(*), coalesce(sum(s.size), 0) from bag_file s
       where s.account = $1 and s.bag = $2 and s.path = c.path and s.at is not null and s.reason is null)
     where c.account = $1 and c.bag = $2`,
    [account, bag],
  );
}

/** Takes the messages of a bag out of the archive, and what is known of their texts. */
export async function dropArchived(db: Queryable, account: number, bag: number): Promise<void> {
  for (const table of ['archived', 'archived_words'])
    await db.query(`delete from ${table} where account = $1 and bag = $2`, [account, bag]);
}

export async function archiveFolders(db: Queryable, account: number): Promise<{ id: number; path: string }[]> {
  return rows(db, 'select id, path from archive_folder where account = $1', [account]);
}

/** What a query over the archive begins with: `from` and `where` over p (archived) and m (message). */
export interface ArchiveSelection {
  /** Ends with a condition, so that more can be added with `and`. */
  sql: string;
  values: unknown[];
}

/** @param texts the archived messages in which each text of the criteria is, by the text folded. */
export async function selectArchived(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  texts: ReadonlyMap<string, Ranges>,
  now: Date,
  withMessage: boolean,
): Promise<ArchiveSelection> {
  const context = {
    now,
    timeZone: account.settings.timeZone,
    folders: await archiveFolders(db, account.id),
    texts,
    guarded: [],
    words: (await hasAllWords(db, account.id)) ? account.id : null,
  };
  const condition = criteriaToSql(criteria, context, 2);
  const join =
    withMessage || condition.readsMessage ? 'join message m on m.account = p.account and m.id = p.message' : '';
  return {
    sql: `from archived p ${join} where p.account = $1::bigint and ${condition.text}`,
    values: [account.id, ...condition.values],
  };
}

/** Messages and octets of a selection. */
export async function archivedAmount(db: Queryable, { sql, values }: ArchiveSelection): Promise<Amount> {
  return theRow(db, `select count(*)::int as messages, coalesce(sum(p.size), 0)::bigint as bytes ${sql}`, values);
}

/** The ids of a selection. */
export async function archivedIds(db: Queryable, { sql, values }: ArchiveSelection): Promise<number[]> {
  return (await rows<{ id: number }>(db, `select p.id ${sql} order by p.id`, values)).map(({ id }) => id);
}

/** The ids of the messages of a bag. */
export async function archivedOfBag(db: Queryable, account: number, bag: number): Promise<number[]> {
  const found = await rows<{ id: number }>(db, 'select id from archived where account = $1 and bag = $2 order by id', [
    account,
    bag,
  ]);
  return found.map(({ id }) => id);
}

export type ArchiveOrder = 'date' | 'size' | 'from' | 'subject';

const ORDERS: Record<ArchiveOrder, string> = {
  date: 'p.dated',
  size: 'p.size',
  from: `coalesce(nullif(m.from_name_folded, ''), m.from_address_folded)`,
  subject: 'm.subject_folded',
};

const COLUMNS = `p.id, p.bag, p.message, a.path as folder, p.uid, m.from_name as "fromName", m.from_address as "fromAddress", m.subject,
  m.sent as date, p.received, p.size, p.flags, p.category, p.keywords, m.flaws, ${filesOfMessage('p.account', 'p.message')} as files`;

interface ArchivedRow extends Omit<ArchivedMessage, 'from' | 'flags' | 'category'> {
  fromName: string;
  fromAddress: string;
  flags: number;
  category: number;
}

function shown({ fromName: name, fromAddress: address, flags, category, ...message }: ArchivedRow): ArchivedMessage {
  return {
    ...message,
    from: name === '' && address === '' ? null : { name, address },
    flags: flagNames(flags),
    category: CATEGORIES[category] as Category,
  };
}

export interface ArchivePage {
  order: ArchiveOrder;
  direction: 'up' | 'down';
  limit: number;
  /** Messages that are passed by. */
  first: number;
}

/** Some of a selection in an order, from a place on; for an order by what a message says, the selection reads that. */
export async function archivedPage(
  db: Queryable,
  { sql, values }: ArchiveSelection,
  { order, direction, limit, first }: ArchivePage,
): Promise<ArchivedMessage[]> {
  const expression = ORDERS[order];
  const way = direction === 'up' ? 'asc' : 'desc';
  const at = values.length;
  // What is shown of a message is looked up for the page alone.
  const found = await rows<ArchivedRow>(
    db,
    `with page as materialized (
       select p.id, ${expression} as key ${sql} order by ${expression} ${way}, p.id limit $${at + 1} offset $${at + 2})
     select ${COLUMNS} from page cross join lateral (select * from archived where account = $1 and id = page.id offset 0) p
     cross join lateral (select * from message where account = $1 and id = p.message offset 0) m
     join archive_folder a on a.account = $1 and a.id = p.folder order by page.key ${way}, page.id`,
    [...values, limit, first],
  );
  return found.map(shown);
}

/** A message of the archive with where its octets are. */
export interface ArchivedPlace extends ArchivedMessage, MessagePlace {
  /** Of the bag. */
  bagFolder: string;
  sha256: string;
  messageId: string;
  to: { name: string; address: string }[];
  /** Why its octets can't be trusted; null where they were last read back as they were. */
  damaged: boolean;
}

/** Messages of the archive by their ids, in the order of these. */
export async function archivedPlaces(db: Queryable, account: number, ids: readonly number[]): Promise<ArchivedPlace[]> {
  const found = await rows<Omit<ArchivedPlace, keyof ArchivedMessage> & ArchivedRow>(
    db,
    `select ${COLUMNS}, b.folder as "bagFolder", s.path, s.at, s.length, encode(s.sha256, 'hex') as sha256, s.checked_at is null as damaged,
       m.message_id as "messageId", m.recipients as "to"
     from unnest($2::bigint[]) with ordinality as w (id, place)
     cross join lateral (select * from archived where account = $1 and id = w.id offset 0) p
     join message m on m.account = $1 and m.id = p.message join archive_folder a on a.account = $1 and a.id = p.folder
     join bag b on b.account = $1 and b.id = p.bag
     join bag_file s on s.account = $1 and s.bag = p.bag and s.file = p.message * 512 + ${WHOLE_MESSAGE}
     order by w.place`,
    [account, ids],
  );
  return found.map(({ bagFolder, path, at, length, sha256, damaged, messageId, to, ...message }) => ({
    ...shown(message),
    ...{ bagFolder, path, at, length, sha256, damaged, messageId },
    to: to.map(({ name, address }) => ({ name, address })),
  }));
}

export async function archivedById(db: Queryable, account: number, id: number): Promise<ArchivedPlace | undefined> {
  return (await archivedPlaces(db, account, [id]))[0];
}

/** What the archive of an account holds on this machine, and how safe it is. */
export interface ArchiveFigures extends Amount {
  /** Files that were saved by themselves. */
  files: FileAmount;
  /** Messages whose words are not known yet: a search for a text does not find them. */
  unread: number;
  /** Messages of whose text only the beginning is searched, or that could not be read. */
  partly: number;
  /** When the bag was read back for which that is longest ago; null where there is none. */
  checkedAt: Date | null;
  /** What is not any more what was saved. */
  damaged: FileAmount;
  /** What has no checked copy elsewhere, in octets on the disk. */
  onlyHere: FileAmount;
}

export async function archiveFigures(db: Queryable, account: number): Promise<ArchiveFigures> {
  const [messages, bags, unread] = await Promise.all([
    theRow<Amount>(
      db,
      'select count(*)::int as messages, coalesce(sum(size), 0)::bigint as bytes from archived where account = $1',
      [account],
    ),
    theRow<Omit<ArchiveFigures, keyof Amount | 'unread'>>(
      db,
      // Of mail each mbox file is looked at, and not each message.
      `with kept as materialized (select * from bag where account = $1 and place = 'here' and state = 'done'),
       saved as materialized (
         select s.size, s.copied_at, s.file from kept b join bag_file s on s.account = $1 and s.bag = b.id and s.reason is null
         where b.form = 'files'),
       fallen as materialized (
         select s.size from kept b join bag_file s on s.account = $1 and s.bag = b.id and s.damaged_at is not null),
       part as materialized (select c.* from kept b join bag_part c on c.account = $1 and c.bag = b.id and c.copied_at is null)
       select (select ${filesAmount('size', `file % 512 <> ${WHOLE_MESSAGE}`)} from saved) as files,
         (select ${filesAmount('size', 'true')} from fallen) as damaged,
         (select json_build_object('files', f.files + p.messages, 'bytes', f.bytes + p.octets) from
            (select count(*) filter (where copied_at is null) as files,
               coalesce(sum(size) filter (where copied_at is null), 0) as bytes from saved) f,
            (select coalesce(sum(messages), 0) as messages, coalesce(sum(octets), 0) as octets from part) p) as "onlyHere",
         (select min(checked_at) from kept) as "checkedAt",
         (select coalesce(sum(words_partly), 0)::int from kept) as partly`,
      [account],
    ),
    unreadCount(db, account),
  ]);
  return { ...messages, ...bags, unread };
}

function filesAmount(bytes: string, condition: string): string {
  return `json_build_object('files', count(*) filter (where ${condition}),
    'bytes', coalesce(sum(${bytes}) filter (where ${condition}), 0))`;
}

/** A message of a bag whose words are to be read, with what is known of it without reading it. */
export interface UnreadMessage extends MessagePlace {
  id: number;
  /** Folded names of its files. */
  files: string;
}

/** Messages of a bag whose words were not read, in their order and behind one, at most so many. */
export async function unreadMessages(
  db: Queryable,
  account: number,
  bag: number,
  most: number,
  behind: number,
): Promise<UnreadMessage[]> {
  return rows(
    db,
    `select p.id, s.path, s.at, s.length, s.encoded as size, m.files_folded as files
     from (select * from archived where account = $1 and bag = $2 and id > greatest($4,
             (select words_to from bag where account = $1 and id = $2)) order by id limit $3) p
     cross join lateral (
       select * from bag_file where account = $1 and bag = $2 and file = p.message * 512 + ${WHOLE_MESSAGE} offset 0) s
     cross join lateral (select files_folded from message where account = $1 and id = p.message offset 0) m
     order by p.id`,
    [account, bag, most, behind],
  );
}

/** How many archived messages have words that are not known yet. */
export async function unreadCount(db: Queryable, account: number): Promise<number> {
  const { messages } = await theRow<{ messages: number }>(
    db,
    `select count(*)::int as messages from bag b join archived p on p.account = b.account and p.bag = b.id and p.id > coalesce(b.words_to, 0)
     where b.account = $1 and b.words_at is null`,
    [account],
  );
  return messages;
}

/** Notes that the words of a bag are known up to a message; without one, of all. */
export async function noteWords(
  db: Queryable,
  account: number,
  bag: number,
  { to, partly }: { to: number | null; partly: number },
): Promise<void> {
  await db.query(
    `update bag set words_to = coalesce($3, words_to), words_at = case when $3 is null then now() end, words_partly = words_partly + $4
     where account = $1 and id = $2`,
    [account, bag, to, partly],
  );
}
