import { NEARLY_ALIKE } from '../../core/repeats/picture-hash';
import { OCCASION_SECONDS } from '../../core/repeats/picture-series';
import { includes, printMultirange, rangesOf } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import { type Queryable, rows } from '../database';
import { mailFolders } from '../index/selection';
import { placementsIn } from '../index/spans';
import { filesTakenAmong, type Promised, takenAmong } from './taken';

/** What the lots that a run took up promised. */
export async function promisesOf(db: Queryable, account: number, run: number): Promise<ReadonlySet<Promised>> {
  const found = await rows<{ promise: Promised }>(
    db,
    'select distinct promise from lot where account = $1 and run = $2 and promise is not null',
    [account, run],
  );
  return new Set(found.map(({ promise }) => promise));
}

/**
 * A member of a run, and by what that is told which stays for it: a letter, and behind it for copies of a message (`d`) the digest in
 * hexadecimal digits or (`m`) the number of the message, for one that is quoted (`e`) its number.
 */
export interface PromisedMember {
  id: number;
  key: string;
}

/** Those of some members of a run that lots gave it which promised that another message stays. */
export async function promisedMembers(
  db: Queryable,
  account: number,
  run: number,
  ids: readonly number[],
): Promise<PromisedMember[]> {
  return rows<PromisedMember>(
    db,
    `with promised as materialized (
       select promise, range_agg(members) * $3::int8multirange as members from lot
       where account = $1 and run = $2 and promise in ('twins', 'echoes') group by promise)
     select p.id, case promise when 'echoes' then 'e' || p.message else coalesce('d' || encode(d.twin, 'hex'), 'm' || p.message) end as key
     from promised cross join ${placementsIn('promised.members')}
     left join twin_digest d on d.account = $1 and d.message = p.message`,
    [account, run, printMultirange(rangesOf(ids))],
  );
}

/** A message that may stay, and where it lies. */
export interface StayingCopy {
  key: string;
  id: number;
  generation: number;
  uid: number;
}

/** What can stay for members: outside the trash, and taken neither by the plan nor by a run, as far as the index knows. */
export async function stayingCopies(db: Queryable, account: Account, keys: readonly string[]): Promise<StayingCopy[]> {
  const of = (kind: string) => keys.filter((key) => key.startsWith(kind)).map((key) => key.slice(1));
  const copies = await rows<StayingCopy>(
    db,
    `with named as materialized (
       select 'd' || encode(d.twin, 'hex') as key, d.message from unnest($3::bytea[]) as wanted (twin)
       cross join lateral (select * from twin_digest where account = $1 and twin = wanted.twin offset 0) d
       union all select 'm' || message, message from unnest($4::bigint[]) as alone (message)
       union all select 'e' || e.message, e.holder from unnest($5::bigint[]) as quoted (message)
       cross join lateral (select * from echo where account = $1 and message = quoted.message offset 0) e)
     select named.key, q.id, q.generation, q.uid from named cross join lateral (
       select * from placement where account = $1 and message = named.message and gone_at is null offset 0) q
     where q.folder = any($2::int[])`,
    [account.id, await mailFolders(db, account), of('d').map((digits) => Buffer.from(digits, 'hex')), of('m'), of('e')],
  );
  const taken = await takenAmong(
    db,
    account.id,
    copies.map(({ id }) => id),
  );
  return copies.filter(({ id }) => !includes(taken, id));
}

/** A file that is taken out of its message, as it was when it was compared. */
export interface PromisedFile {
  file: number;
  promise: 'files' | 'pictures' | 'spaces';
  /** Of its octets, in hexadecimal digits, and how many they are. */
  sha256: string;
  size: number;
}

/** Those of some files that lots gave a run which promised that another one stays. */
export async function promisedFiles(
  db: Queryable,
  account: number,
  run: number,
  files: readonly number[],
): Promise<PromisedFile[]> {
  return rows<PromisedFile>(
    db,
    `select one.file, lot.promise, encode(d.sha256, 'hex') as sha256, d.size from unnest($3::bigint[]) as one (file)
     join lot on lot.account = $1 and lot.run = $2 and lot.promise in ('files', 'pictures', 'spaces') and lot.files @> one.file
     cross join lateral (select * from file_digest where account = $1 and file = one.file and sha256 is not null offset 0) d`,
    [account, run, files],
  );
}

/** A file that may stay for another; its key is `s` and the digest of the other, or `a` and the number of a picture nearly alike. */
export interface StayingFile extends StayingCopy {
  file: number;
  /** Of the message in which it is. */
  subject: string;
  from: string;
  date: Date | null;
  messageId: string;
}

/** What a file n.file is told by: its message m outside the trash ($2), and where that lies. */
const TOLD_FILE = `cross join lateral (select * from message where account = $1 and id = n.file / 512 offset 0) m
  cross join lateral (select * from placement where account = $1 and message = m.id and gone_at is null offset 0) q`;
const TOLD = `q.id, q.generation, q.uid, n.file, m.subject, coalesce(nullif(m.from_name, ''), m.from_address) as from, m.sent as date,
  m.message_id as "messageId"`;

/** Files with some digests that can stay: in messages outside the trash, and taken neither by the plan nor by a run. */
export async function sameFiles(db: Queryable, account: Account, digests: readonly string[]): Promise<StayingFile[]> {
  const found = await rows<StayingFile>(
    db,
    `select 's' || encode(n.sha256, 'hex') as key, ${TOLD} from unnest($3::bytea[]) as wanted (sha256)
     cross join lateral (select * from file_digest where account = $1 and sha256 = wanted.sha256 offset 0) n ${TOLD_FILE}
     where q.folder = any($2::int[])`,
    [account.id, await mailFolders(db, account), digests.map((digits) => Buffer.from(digits, 'hex'))],
  );
  return notTaken(db, account.id, found);
}

/** Pictures nearly alike to some that can stay: of their author and occasion, and otherwise as `sameFiles`. */
export async function alikePictures(db: Queryable, account: Account, files: readonly number[]): Promise<StayingFile[]> {
  const found = await rows<StayingFile>(
    db,
    `with going as materialized (
       select l.file, l.hash, m.from_address_folded as author, coalesce(m.sent, (
           select min(received) from placement p where p.account = $1 and p.message = m.id)) as written
       from unnest($3::bigint[]) as one (file) join picture_look l on l.account = $1 and l.file = one.file
       cross join lateral (select * from message where account = $1 and id = one.file / 512 offset 0) m)
     select 'a' || g.file as key, ${TOLD} from going g
     cross join lateral (
       select * from picture_look where account = $1 and file <> g.file
         and bit_count((hash # g.hash)::bit(64)) <= ${NEARLY_ALIKE} offset 0) n ${TOLD_FILE}
     where q.folder = any($2::int[]) and m.from_address_folded = g.author
       and abs(extract(epoch from coalesce(m.sent, q.received) - g.written)) <= ${OCCASION_SECONDS}`,
    [account.id, await mailFolders(db, account), files],
  );
  return notTaken(db, account.id, found);
}

/** Those that neither the plan nor a run takes, alone or with their message. */
export async function notTaken<T extends StayingFile>(
  db: Queryable,
  account: number,
  files: readonly T[],
): Promise<T[]> {
  if (files.length === 0) return [];
  const taken = await takenAmong(
    db,
    account,
    files.map(({ id }) => id),
  );
  const takenOut = await filesTakenAmong(
    db,
    account,
    files.map(({ file }) => file),
  );
  return files.filter(({ id, file }) => !includes(taken, id) && !includes(takenOut, file));
}
