import { fileId, type MessageFile, ownSizes } from '../../core/files/file';
import { fileKind, kindBits, kindNumber } from '../../core/files/kinds';
import { numbersOf, type Ranges, rangesOf } from '../../core/sets/ranges';
import { fold } from '../../core/text';
import { nextVersion } from '../access/accounts';
import { type Queryable, rows } from '../database';
import { foldedLines } from './folded-texts';
import { placementsOf } from './spans';

/** The ids that files of a message can have (core/files): at least the first, less than the second. */
export function fileIdsOf(message: string): [from: string, to: string] {
  return [`(${message} * 512)`, `(${message} * 512 + 512)`];
}

/**
 * What joins placements `p` of an account with their files as `f`, by one descent of the index for each message: a planner that
 * knows little of the account would hold each file against each message.
 *
 * @param account as an expression of SQL; whether messages without files stay.
 */
export function joinFiles(account: string, keepsOthers = false): string {
  const [from, to] = fileIdsOf('p.message');
  const files = `lateral (select * from file where account = ${account} and id >= ${from} and id < ${to} offset 0) f`;
  return keepsOthers ? `left join ${files} on true` : `cross join ${files}`;
}

/** The files of a message as JSON, [{name, type, size}], size in encoded octets; as an expression of SQL. */
export function filesOfMessage(account: string, message: string): string {
  const [from, to] = fileIdsOf(message);
  return `coalesce((
    select json_agg(json_build_object('name', f.name, 'type', f.type, 'size', f.size) order by f.id)
    from file f where f.account = ${account} and f.id >= ${from} and f.id < ${to} and not f.enclosed), '[]')`;
}

/** The files of a message with their sections, without those of enclosed messages. */
export async function filesWithParts(
  db: Queryable,
  account: number,
  message: number,
): Promise<{ part: string; name: string; type: string; size: number }[]> {
  const [from, to] = fileIdsOf('$2::bigint');
  return rows(
    db,
    `select part, name, type, size from file where account = $1 and id >= ${from} and id < ${to} and not enclosed order by id`,
    [account, message],
  );
}

/** Where messages lie whose files were never read: UIDs of some, by generation. */
export async function unreadFiles(
  db: Queryable,
  account: number,
  most: number,
): Promise<{ generation: number; folder: number; uids: Ranges }[]> {
  const found = await rows<{ generation: number; folder: number; uids: number[] }>(
    db,
    `select generation, folder, array_agg(uid::float8) as uids from (
       select p.generation, p.folder, p.uid from message m
       cross join lateral (select * from placement where account = m.account and message = m.id and gone_at is null limit 1) p
       where m.account = $1 and m.files_unread order by m.id limit $2) unread
     group by generation, folder order by folder`,
    [account, most],
  );
  return found.map(({ uids, ...place }) => ({ ...place, uids: rangesOf(uids) }));
}

/** Writes the files of messages that were indexed before their files were, in a transaction of the caller's. */
export async function writeFiles(
  db: Queryable,
  account: number,
  generation: number,
  read: readonly { uid: number; files: readonly MessageFile[] }[],
): Promise<void> {
  const found = await rows<{ message: number; placement: number; uid: number }>(
    db,
    `select p.message, p.id as placement, p.uid from unnest($3::bigint[]) as wanted (uid) cross join lateral (
       select * from placement where account = $1 and generation = $2 and gone_at is null and uid = wanted.uid offset 0) p`,
    [account, generation, read.map(({ uid }) => uid)],
  );
  const byUid = new Map(read.map(({ uid, files }) => [uid, files]));
  const messages = found.map(({ message, uid }) => ({ message, files: byUid.get(uid) ?? [] }));
  const files = messages.flatMap(({ message, files }) => {
    const own = ownSizes(files);
    return files.map((file, ordinal) => ({ ...file, id: fileId(message, ordinal), own: own[ordinal] ?? 0, message }));
  });
  const column = <T>(value: (file: (typeof files)[number]) => T) => files.map(value);
  await db.query(
    `insert into file (account, id, part, name, name_folded, type, kind, size, own_size, encoding, disposition, inside, enclosed)
     select $1, f.* from unnest($2::bigint[], $3::text[], $4::text[], $5::text[], $6::text[], $7::smallint[], $8::bigint[],
       $9::bigint[], $10::text[], $11::text[], $12::int[], $13::boolean[]) f
     on conflict (account, id) do nothing`,
    [
      account,
      column(({ id }) => id),
      column(({ part }) => part),
      column(({ name }) => name),
      column(({ name }) => fold(name)),
      column(({ type }) => type),
      column(({ type, name }) => kindNumber(fileKind(type, name))),
      column(({ size }) => size),
      column(({ own }) => own),
      column(({ encoding }) => encoding),
      column(({ disposition }) => disposition),
      column(({ inside }) => inside),
      column(({ enclosed }) => enclosed),
    ],
  );
  await db.query(
    `update message m set files_unread = false, file_count = r.count, file_bytes = r.bytes, kinds = r.kinds, files_folded = r.folded
     from unnest($2::bigint[], $3::int[], $4::bigint[], $5::int[], $6::text[]) as r (id, count, bytes, kinds, folded)
     where m.account = $1 and m.id = r.id`,
    [
      account,
      messages.map(({ message }) => message),
      messages.map(({ files }) => files.length),
      messages.map(({ files }) => ownSizes(files).reduce((sum, size) => sum + size, 0)),
      messages.map(({ files }) => kindBits(files)),
      messages.map(({ files }) => foldedLines(files.map(({ name }) => name))),
    ],
  );
  await db.query(
    `update placement set changed = $3 from (select p.account, p.id from ${placementsOf('$2::bigint[]')}) read
     where placement.account = read.account and placement.id = read.id`,
    [account, found.map(({ placement }) => placement), await nextVersion(db, account)],
  );
}

/** Says of messages whose structure the server did not give that nothing more is known of their files. */
export async function giveUpFiles(db: Queryable, account: number, generation: number, uids: Ranges): Promise<void> {
  await db.query(
    `update message m set files_unread = false from (
       select p.account, p.message from unnest($3::bigint[]) as wanted (uid) cross join lateral (
         select * from placement where account = $1 and generation = $2 and gone_at is null and uid = wanted.uid offset 0) p) given_up
     where m.account = given_up.account and m.id = given_up.message`,
    [account, generation, [...numbersOf(uids)]],
  );
}
