import type { Criteria } from '../../core/criteria/tree';
import type { Copy } from '../../core/files/copies';
import { decodedSize } from '../../core/files/file';
import { FILE_KINDS, type FileKind } from '../../core/files/kinds';
import { parseMultirange, type Ranges } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import { type Queryable, row, rows, theRow } from '../database';
import type { Cursor } from '../index/messages';
import { type Scope, selectFiles } from '../index/selection';
import { type FileAmount, IS_COPY } from './bags';

/** A file as lists show it. */
export interface ListedFile {
  id: number;
  /** A message that has it, by its placement. */
  message: number;
  folder: string;
  name: string;
  type: string;
  kind: FileKind;
  /** Encoded octets: what counts in the mailbox. */
  size: number;
  /** Octets when decoded, as far as the encoded size tells. */
  decoded: number;
  /** Section (RFC 9051 §6.4.5.1). */
  part: string;
  /** Whether it is inside a message that is enclosed in another. */
  enclosed: boolean;
  from: { name: string; address: string } | null;
  subject: string;
  date: Date | null;
  copy: Copy;
}

export type FileOrder = 'size' | 'date' | 'name' | 'from';

/** What a page is ordered by, as an expression and its type. */
const ORDERS: Record<FileOrder, { expression: string; type: string }> = {
  size: { expression: 'own_size', type: 'bigint' },
  date: { expression: 'at', type: 'timestamptz' },
  name: { expression: 'name_folded', type: 'text' },
  from: { expression: 'from_address', type: 'text' },
};

/** Files that match, each once, though its message lies in several folders. */
function once(sql: string): string {
  return `select distinct on (f.id) f.id, p.id as placement, p.folder, f.name, f.name_folded, f.type, f.kind, f.size, f.own_size,
    f.encoding, f.part, f.enclosed, m.from_name, m.from_address, m.subject, m.sent, coalesce(m.sent, p.received) as at
    ${sql} order by f.id, p.id`;
}

/** A file, and where it is on the server. */
export interface LocatedFile {
  name: string;
  type: string;
  kind: FileKind;
  part: string;
  encoding: string;
  /** Encoded octets, as the structure says. */
  size: number;
  serverName: string;
  uidValidity: number;
  uid: number;
}

/** A file of a message that is in the mailbox; undefined where it is in none any more. */
export async function fileById(db: Queryable, account: number, id: number): Promise<LocatedFile | undefined> {
  const found = await row<Omit<LocatedFile, 'kind'> & { kind: number }>(
    db,
    `select f.name, f.type, f.kind, f.part, f.encoding, f.size, o.server_name as "serverName",
       g.uid_validity as "uidValidity", p.uid
     from file f
     cross join lateral (
       select * from placement where account = $1 and message = f.id / 512 and gone_at is null order by id limit 1) p
     join generation g on g.account = $1 and g.id = p.generation
     join folder o on o.account = $1 and o.id = g.folder
     where f.account = $1 and f.id = $2`,
    [account, id],
  );
  return found && { ...found, kind: FILE_KINDS[found.kind] ?? 'other' };
}

/** How many files match, and their encoded octets; none counts twice. */
export async function amountOfFiles(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
): Promise<FileAmount> {
  const { sql, values } = await selectFiles(db, account, criteria, scope, now);
  return theRow<FileAmount>(
    db,
    `select count(*)::int as files, coalesce(sum(own_size), 0)::bigint as bytes from (${once(sql)}) f`,
    values,
  );
}

/** The ids of the files that match. */
export async function matchingFiles(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
): Promise<Ranges> {
  const { sql, values } = await selectFiles(db, account, criteria, scope, now);
  const { ids } = await theRow<{ ids: string }>(
    db,
    `select coalesce(range_agg(int8range(f.id, f.id + 1)), '{}')::text as ids ${sql}`,
    values,
  );
  return parseMultirange(ids);
}

/** A page of the files that match, and where the next begins. */
export async function pageOfFiles(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  scope: Scope,
  now: Date,
  page: { order: FileOrder; direction: 'up' | 'down'; limit: number; after: Cursor | undefined },
): Promise<{ files: ListedFile[]; next: Cursor | undefined }> {
  const { sql, values, folders } = await selectFiles(db, account, criteria, scope, now);
  const { expression, type } = ORDERS[page.order];
  const way = page.direction === 'up' ? { sort: 'asc', beyond: '>' } : { sort: 'desc', beyond: '<' };
  const parameters = [...values];
  let more = '';
  if (page.after) {
    parameters.push(page.after.value, page.after.id);
    const value = `$${parameters.length - 1}::${type}`;
    more = `where ${expression} ${way.beyond} ${value} or (${expression} = ${value} and id > $${parameters.length}::bigint)`;
  }
  parameters.push(page.limit + 1);
  const found = await rows<FileRow>(
    db,
    `select t.*, (${expression})::text as key, (
         select bool_or(c.checked_at is not null) from bag_file c join bag b on b.account = c.account and b.id = c.bag
         where c.account = $1::bigint and c.file = t.id and ${IS_COPY}) as checked
     from (select * from (${once(sql)}) f ${more} order by ${expression} ${way.sort}, id limit $${parameters.length}) t
     order by ${expression} ${way.sort}, id`,
    parameters,
  );
  const paths = new Map(folders.map(({ id, path }) => [id, path]));
  const shown = found.slice(0, page.limit);
  const last = shown.at(-1);
  return {
    files: shown.map((row) => listed(row, paths)),
    next: found.length > page.limit && last ? { value: last.key, id: last.id } : undefined,
  };
}

interface FileRow {
  id: number;
  placement: number;
  folder: number;
  name: string;
  type: string;
  kind: number;
  size: number;
  own_size: number;
  encoding: string;
  part: string;
  enclosed: boolean;
  from_name: string;
  from_address: string;
  subject: string;
  sent: Date | null;
  key: string;
  checked: boolean | null;
}

function listed(row: FileRow, paths: ReadonlyMap<number, string>): ListedFile {
  const { id, placement, folder, name, type, kind, part, enclosed, subject, encoding, checked } = row;
  return {
    id,
    message: placement,
    folder: paths.get(folder) ?? '',
    name,
    type,
    kind: FILE_KINDS[kind] ?? 'other',
    size: row.own_size,
    decoded: decodedSize(encoding, row.size),
    part,
    enclosed,
    from: row.from_name === '' && row.from_address === '' ? null : { name: row.from_name, address: row.from_address },
    subject,
    date: row.sent,
    copy: checked === null ? 'none' : checked ? 'checked' : 'saved',
  };
}
