import type { MessagePlace } from '../../core/archive/message-place';
import { WHOLE_MESSAGE } from '../../core/files/file';
import { type Queryable, row, rows } from '../database';

/** Bags that are to be read: their words are not known, it is long ago that they were read, or somebody wants it; some of them. */
export async function dueBags(db: Queryable, days: number): Promise<{ account: number; id: number }[]> {
  return rows(
    db,
    `select b.account, b.id from bag b where b.place = 'here' and b.state = 'done'
     and (b.words_at is null or b.read_asked or b.reading_since is not null or b.checked_at < now() - make_interval(days => $1))
     and not exists (select from job j where j.account = b.account and j.kind = 'read-bag' and j.subject = b.id and j.done_at is null)
     order by b.checked_at limit 100`,
    [days],
  );
}

export async function askForReading(db: Queryable, account: number, bag: number): Promise<void> {
  await db.query('update bag set read_asked = true where account = $1 and id = $2', [account, bag]);
}

/** Begins to read a bag again, or goes on with it; gives since when, undefined where it is not due. */
export async function beginReading(
  db: Queryable,
  account: number,
  bag: number,
  days: number,
): Promise<Date | undefined> {
  const found = await row<{ since: Date }>(
    db,
    `update bag set reading_since = coalesce(reading_since, clock_timestamp()), read_asked = false where account = $1 and id = $2
     and (read_asked or reading_since is not null or checked_at < now() - make_interval(days => $3))
     returning reading_since as since`,
    [account, bag, days],
  );
  return found?.since;
}

/** Notes that a bag was read to its end. */
export async function endReading(db: Queryable, account: number, bag: number, tags: readonly string[]): Promise<void> {
  await db.query(
    'update bag set checked_at = now(), reading_since = null, tags_damaged = $3 where account = $1 and id = $2',
    [account, bag, tags],
  );
}

/** Notes of saved files of a bag that they are not any more what they were: they count as checked no more. */
export async function noteDamaged(
  db: Queryable,
  account: number,
  bag: number,
  files: readonly number[],
): Promise<void> {
  await db.query(
    `update bag_file set checked_at = null, damaged_at = coalesce(damaged_at, now())
     where account = $1 and bag = $2 and file = any($3::bigint[]) and reason is null`,
    [account, bag, files],
  );
}

/** From where a damaged file of a bag can be repaired. */
export type RepairSource = 'archive' | 'mailbox' | 'trash';

/** A file or message of a bag that is not what was saved. */
export interface DamagedFile extends MessagePlace {
  file: number;
  sha256: string;
  damagedAt: Date;
  /** Of its message. */
  subject: string;
  from: string;
  received: Date;
  /** '' for a whole message. */
  part: string;
  encoding: string;
  /** Another bag of this machine that has a checked copy. */
  other: (MessagePlace & { bagFolder: string }) | null;
  /** Where its message lies on the server. */
  placements: { generation: number; uid: number; folder: number; size: number }[];
}

/** Damaged files of a bag in the order of their numbers, behind one, at most so many. */
export async function damagedFiles(
  db: Queryable,
  account: number,
  bag: number,
  after: number,
  most: number,
): Promise<DamagedFile[]> {
  return rows(
    db,
    `select s.file, s.path, s.at, s.length, s.size, encode(s.sha256, 'hex') as sha256, s.damaged_at as "damagedAt", m.subject,
       m.from_address as "from", coalesce(a.received, p.received) as received, coalesce(f.part, '') as part,
       coalesce(f.encoding, '8bit') as encoding,
       (select json_build_object('bagFolder', b.folder, 'path', c.path, 'at', c.at, 'length', c.length, 'size', c.size)
        from bag_file c join bag b on b.account = c.account and b.id = c.bag
        where c.account = s.account and c.file = s.file and c.bag <> s.bag and c.reason is null and c.checked_at is not null
          and c.sha256 = s.sha256 and b.place = 'here' and b.state = 'done' limit 1) as other,
       coalesce((select json_agg(json_build_object('generation', l.generation, 'uid', l.uid, 'folder', l.folder, 'size', l.size))
        from placement l where l.account = s.account and l.message = s.file / 512 and l.gone_at is null), '[]') as placements
     from bag_file s join message m on m.account = s.account and m.id = s.file / 512
     left join placement p on p.account = s.account and p.id = s.placement
     left join archived a on a.account = s.account and a.bag = s.bag and a.message = s.file / 512 and s.file % 512 = ${WHOLE_MESSAGE}
     left join file f on f.account = s.account and f.id = s.file
     where s.account = $1 and s.bag = $2 and s.damaged_at is not null and s.file > $3 order by s.file limit $4`,
    [account, bag, after, most],
  );
}

/** One damaged file of a bag; undefined where it is none. */
export async function damagedFile(
  db: Queryable,
  account: number,
  bag: number,
  file: number,
): Promise<DamagedFile | undefined> {
  const [found] = await damagedFiles(db, account, bag, file - 1, 1);
  return found?.file === file ? found : undefined;
}

/** Notes which manifests of a bag are damaged. */
export async function noteTags(db: Queryable, account: number, bag: number, tags: readonly string[]): Promise<void> {
  await db.query('update bag set tags_damaged = $3 where account = $1 and id = $2', [account, bag, tags]);
}

/** Notes that a damaged file has its octets again. */
export async function noteRepaired(db: Queryable, account: number, bag: number, file: number): Promise<void> {
  await db.query(
    'update bag_file set damaged_at = null, checked_at = now() where account = $1 and bag = $2 and file = $3',
    [account, bag, file],
  );
}
