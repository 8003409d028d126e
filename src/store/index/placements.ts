import { parseMultirange, printMultirange, type Ranges } from '../../core/sets/ranges';
import { lockedVersion, nextVersion } from '../access/accounts';
import { type Queryable, row, rows, theRow } from '../database';
import { placementsByUid } from './spans';

/** A placement that a run has still to deal with. */
export interface PendingPlacement {
  id: number;
  generation: number;
  folder: number;
  uid: number;
  size: number;
  origin: number | null;
  /** Bits of core/mailbox/flags, and keywords parted by blanks, as they were last seen. */
  flags: number;
  keywords: string;
}

/** UIDs of a generation that are in the index, of all or of a set. */
export async function uidsOf(db: Queryable, account: number, generation: number, among?: Ranges): Promise<Ranges> {
  const { uids } = await theRow<{ uids: string }>(
    db,
    `select coalesce(range_agg(int8range(uid, uid + 1)), '{}')::text as uids from ${
      among
        ? placementsByUid('$3::int8multirange')
        : 'placement where account = $1 and generation = $2 and gone_at is null'
    }`,
    among ? [account, generation, printMultirange(among)] : [account, generation],
  );
  return parseMultirange(uids);
}

/** The UIDs of messages of which nobody knows when they came into their folder. */
export async function undatedUids(db: Queryable, account: number, generation: number): Promise<Ranges> {
  const { uids } = await theRow<{ uids: string }>(
    db,
    `select coalesce(range_agg(int8range(uid, uid + 1)), '{}')::text as uids from placement
     where account = $1 and generation = $2 and gone_at is null and placed_at is null`,
    [account, generation],
  );
  return parseMultirange(uids);
}

/** Whether the index of an account holds, or ever held, so many messages. */
export async function hasPlacements(db: Queryable, account: number, least = 1): Promise<boolean> {
  const last = await row(db, 'select 1 from placement where account = $1 order by id offset $2 limit 1', [
    account,
    least - 1,
  ]);
  return last !== undefined;
}

export async function countPlacements(db: Queryable, account: number, generation: number): Promise<number> {
  const { count } = await theRow<{ count: number }>(
    db,
    'select count(*)::int as count from placement where account = $1 and generation = $2 and gone_at is null',
    [account, generation],
  );
  return count;
}

/** How many messages of generations are in the index. */
export async function countsByGeneration(
  db: Queryable,
  account: number,
  generations: readonly number[],
): Promise<Map<number, number>> {
  const found = await rows<{ generation: number; count: number }>(
    db,
    `select wanted.generation, counted.count from unnest($2::int[]) as wanted (generation) cross join lateral (
       select count(*)::int as count from placement
       where account = $1 and generation = wanted.generation and gone_at is null) counted`,
    [account, generations],
  );
  return new Map(found.map(({ generation, count }) => [generation, count]));
}

/** One array a column, the form in which unnest takes rows. */
class Columns {
  private readonly columns = new Map<string, { type: string; values: unknown[] }>();

  add(name: string, type: string, values: unknown[]): this {
    this.columns.set(name, { type, values });
    return this;
  }

  get names(): string {
    return [...this.columns.keys()].join(', ');
  }

  unnest(first: number): string {
    const arrays = [...this.columns.values()].map(({ type }, index) => `$${first + index}::${type}[]`);
    return `unnest(${arrays.join(', ')}) as row (${this.names})`;
  }

  get values(): unknown[] {
    return [...this.columns.values()].map(({ values }) => values);
  }
}

/** Makes tombstones of what the server has no more; gives how many were there. */
export async function tombstone(db: Queryable, account: number, generation: number, uids: Ranges): Promise<number> {
  const gone = await db.query(
    `update placement set gone_at = now(), changed = $4 from (select p.account, p.id from ${placementsByUid('$3::int8multirange')}) gone
     where placement.account = gone.account and placement.id = gone.id`,
    [account, generation, printMultirange(uids), await nextVersion(db, account)],
  );
  return gone.rowCount ?? 0;
}

/** Writes flags where they differ. */
export async function updateFlags(
  db: Queryable,
  account: number,
  generation: number,
  flags: readonly { uid: number; flags: number; keywords: string[] }[],
): Promise<void> {
  const columns = new Columns()
    .add(
      'uid',
      'bigint',
      flags.map(({ uid }) => uid),
    )
    .add(
      'flags',
      'int',
      flags.map((record) => record.flags),
    )
    .add(
      'words',
      'text',
      flags.map(({ keywords }) => keywords.join(' ')),
    );
  const version = await lockedVersion(db, account);
  const changed = await db.query(
    `update placement set flags = now.flags, keywords = now.keywords, changed = $3
     from (select p.account, p.id, row.flags, string_to_array(row.words, ' ') as keywords
           from ${columns.unnest(4)} cross join lateral (
             select * from placement where account = $1 and generation = $2 and gone_at is null and uid = row.uid offset 0) p
           where p.flags <> row.flags or p.keywords <> string_to_array(row.words, ' ')) now
     where placement.account = now.account and placement.id = now.id`,
    [account, generation, version, ...columns.values],
  );
  if (changed.rowCount) await nextVersion(db, account);
}

/** Keeps when messages came into their folder: as the server says, else no later than an instant, null where nobody knows. */
export async function savePlacedAt(
  db: Queryable,
  account: number,
  generation: number,
  uids: Ranges,
  said: ReadonlyMap<number, Date>,
  latest: Date | null,
): Promise<void> {
  await db.query(
    `update placement p set placed_at = coalesce(o.said::timestamptz, o.placed_at, $4::timestamptz), changed = $6
     from (select p.account, p.id, p.placed_at, $5::jsonb ->> p.uid::text as said
           from ${placementsByUid('$3::int8multirange')}) o
     where p.account = o.account and p.id = o.id`,
    [
      account,
      generation,
      printMultirange(uids),
      latest,
      JSON.stringify(Object.fromEntries(said)),
      await nextVersion(db, account),
    ],
  );
}
