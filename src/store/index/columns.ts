import { buildColumns, type Columns, SOLE_DOCUMENT } from '../../core/columns/columns';
import { trashFolders } from '../../core/mailbox/folders';
import type { Account } from '../access/accounts';
import { type Database, overWholeAccount, type Queryable, rows, theRow, transaction } from '../database';
import { foldersOf } from './folders';
import { unpacked } from './packed';

/** A state of the index: its version, and which folders it was read with. */
export interface IndexState {
  version: number;
  /** Changes when a folder is named otherwise, comes, or goes, or another becomes the trash. */
  folders: string;
}

export interface ColumnsRead {
  state: IndexState;
  columns: Columns;
  /** Ids that went since, in a difference. */
  gone: number[];
  /** Paths of the folders that are the trash, and of those that hold what the user sent. */
  trash: string[];
  sent: string[];
}

/** The state in which the index is now. */
export async function indexState(db: Queryable, account: Account): Promise<IndexState> {
  return theRow<IndexState>(
    db,
    `select index_version as version,
       (select left(md5(concat($2::text, string_agg(concat_ws(' ', id, path, repeats, role), E'\\n' order by id))), 12)
        from folder where account = $1 and gone_at is null) as folders
     from account where id = $1`,
    [account.id, account.settings.trashFolder],
  );
}

/** How a column is packed: the octets that PostgreSQL writes of each value, highest first. */
const PACKED = {
  id: ['int4send', 'r.id::int'],
  size: ['float8send', 'r.size::float8'],
  received: ['float8send', `floor(date_part('epoch', r.received))`],
  date: ['float8send', `floor(date_part('epoch', coalesce(r.sent, r.received)))`],
  flags: ['int4send', 'r.flags'],
  category: ['int4send', 'r.category::int'],
  kinds: ['int4send', 'r.kinds'],
  files: ['int4send', 'r.file_count'],
  attached: ['float8send', 'r.file_bytes::float8'],
  thread: ['int4send', 'coalesce(r.thread, r.message)::int'],
  signs: ['int4send', `coalesce(r.signs, 0) | case when r.sole_document then ${SOLE_DOCUMENT} else 0 end`],
  folder: ['int4send', 'r.folder'],
} as const;

const NAMED = {
  fromName: 'r.from_name',
  fromAddress: 'r.from_address',
  list: 'r.list_id',
  // JSON holds no line feed of its own.
  recipients: `case when r.folder = any($4::int[]) then r.recipients::text else '' end`,
  keywords: `array_to_string(r.keywords, ' ')`,
} as const;

/**
 * Reads the columns, or what changed since a version. PostgreSQL packs each column into one value, in the order of the
 * ids, so that no row is ever an object here: a sorted subquery feeds its aggregates in its order.
 */
export async function readColumns(database: Database, account: Account, since?: number): Promise<ColumnsRead> {
  return transaction(database, async (client) => {
    await client.query('set transaction isolation level repeatable read');
    await overWholeAccount(client);
    const state = await indexState(client, account);
    const folders = (await foldersOf(client, account.id)).filter(({ repeats }) => !repeats);
    const sent = folders.filter(({ role }) => role === 'sent');
    const paths = new Map(folders.map(({ id, path }) => [id, path]));
    const packed = Object.entries(PACKED).map(
      ([name, [send, value]]) => `string_agg(${send}(${value}), ''::bytea) as "${name}"`,
    );
    const named = Object.entries(NAMED).map(([name, value]) => `string_agg(${value}, E'\\n') as "${name}"`);
    const values = await theRow<Packed>(
      client,
      `select ${[...packed, ...named].join(', ')} from (
        select p.id, p.message, p.size, p.received, p.flags, p.category, p.folder, p.keywords, m.sent, m.kinds, m.file_count, m.file_bytes,
               m.thread, m.signs, m.sole_document, m.from_name, m.from_address, m.list_id, m.recipients
        from placement p join message m on m.account = p.account and m.id = p.message
        where p.account = $1 and p.gone_at is null and p.folder = any($2::int[]) and p.changed > $3
        order by p.id) r`,
      [account.id, folders.map(({ id }) => id), since ?? -1, sent.map(({ id }) => id)],
    );
    const gone =
      since === undefined
        ? []
        : await rows<{ id: number }>(
            client,
            'select id from placement where account = $1 and changed > $2 and gone_at is not null',
            [account.id, since],
          );
    const trash = trashFolders(folders, account.settings.trashFolder).map(({ path }) => path);
    return {
      state,
      columns: columnsOf(values, paths),
      gone: gone.map(({ id }) => id),
      trash,
      sent: sent.map(({ path }) => path),
    };
  });
}

/** Octets of the packed columns, texts of the others; null where there is no row. */
type Packed = Record<keyof typeof PACKED, Buffer | null> & Record<keyof typeof NAMED, string | null>;

function columnsOf(values: Packed, paths: ReadonlyMap<number, string>): Columns {
  const numbers = Object.fromEntries(
    Object.entries(PACKED).map(([name, [send]]) => [
      name,
      unpacked(values[name as keyof typeof PACKED], send === 'int4send' ? 4 : 8),
    ]),
  ) as Record<keyof typeof PACKED, Int32Array | Float64Array>;
  const { length } = numbers.id;
  const texts = (name: keyof typeof NAMED) => (length === 0 ? [] : (values[name] ?? '').split('\n'));
  return buildColumns({
    numbers,
    authorName: texts('fromName'),
    authorAddress: texts('fromAddress'),
    texts: {
      folder: Array.from(numbers.folder, (id) => paths.get(id) ?? ''),
      list: texts('list'),
      recipients: texts('recipients'),
      keywords: texts('keywords'),
    },
  });
}
