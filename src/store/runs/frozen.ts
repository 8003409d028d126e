import type { Criteria } from '../../core/criteria/tree';
import { WHOLE_MESSAGE } from '../../core/files/file';
import type { Amount } from '../../core/level/level';
import { parseMultirange, printMultirange, type Ranges, rangesOf } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import { IS_WHOLE_COPY } from '../archive/bags';
import { type Queryable, rows, theRow } from '../database';
import { foldersOf } from '../index/folders';
import type { PendingPlacement } from '../index/placements';
import { foldersInScope, type Scope, select } from '../index/selection';
import { placementsIn, placementsOf, THEIR_MESSAGE } from '../index/spans';
import { HELD } from '../plan/held';
import type { LeftReason } from './runs';
import { setDigest } from './set-digest';

/** How the set of a run is named. `lots` are taken as they are frozen; the others are frozen by this. */
export type RunSelector =
  | { lots: number[] }
  /** Lots that were carried out. */
  | { carried: number[] }
  | { where: Criteria; text: string }
  | { ids: number[] }
  | { folders: number[] }
  | { run: number }
  /** What a run brought to the trash and lies there still. */
  | { brought: number }
  /** What a bag of the archive of this machine holds a checked copy of. */
  | { savedIn: number }
  /** What another run left. */
  | { rest: number };

/** Narrows or widens what a selector names. */
export interface FreezeOptions {
  /** Leaves out what came or changed after this version of the index: after a question was shown. */
  asOf?: number | undefined;
  /** Leaves out what came into its folder at this instant or later, or nobody knows when. */
  placedBefore?: Date | undefined;
  /** Adds every placement of the same messages in other folders of the scope: one message is one EMAILID (RFC 8474). */
  copies?: boolean | undefined;
}

/**
 * Freezes the set of a run: live placements within a scope, met once, by the folders they lie in now. It is written where it
 * is found; what comes back is its amount and a digest of its members.
 */
export async function freeze(
  db: Queryable,
  account: Account,
  run: number,
  selector: RunSelector,
  scope: Scope,
  now: Date,
  options: FreezeOptions = {},
): Promise<{ digest: string } & Amount> {
  const folders = await foldersOf(db, account.id);
  const inScope = foldersInScope(folders, scope, account.settings.trashFolder);
  const { from, values } = await namedBy(db, account, selector, scope, inScope, now);
  const narrowed = [...values];
  let conditions = '';
  if (options.asOf !== undefined) {
    narrowed.push(options.asOf);
    conditions += ` and p.changed <= $${narrowed.length}::bigint`;
  }
  if (options.placedBefore) {
    narrowed.push(options.placedBefore);
    conditions += ` and p.placed_at < $${narrowed.length}::timestamptz`;
  }
  const named = `select p.account, p.id, p.folder, p.size, p.message ${from}${conditions}`;
  const widened = options.copies
    ? `select p.id, p.folder, p.size from named p union
       select c.id, c.folder, c.size from named p join message m on m.account = p.account and m.id = p.message and m.email_id is not null
       join placement c on c.account = p.account and c.message = p.message and c.gone_at is null and c.folder = any($2::int[])`
    : 'select p.id, p.folder, p.size from named p';
  narrowed.push(run);
  return theRow(
    db,
    `with named as materialized (${named}), wide as (${widened}),
     grouped as materialized (
       select folder, range_agg(int8range(id, id + 1)) as members, count(*)::int as messages, sum(size)::bigint as bytes
       from wide group by folder),
     source as (
       insert into run_source (account, run, folder, members) select $1, $${narrowed.length}::int, folder, members from grouped),
     whole as (
       select coalesce(range_agg(members), '{}') as members, coalesce(sum(messages), 0)::int as messages,
         coalesce(sum(bytes), 0)::bigint as bytes from grouped)
     update run set members = whole.members, asked_messages = whole.messages, asked_bytes = whole.bytes
     from whole where run.account = $1 and run.id = $${narrowed.length}::int
     returning asked_messages as messages, asked_bytes as bytes,
       ${setDigest('run.members')} as digest`,
    narrowed,
  );
}

/** What a selector names, as a query over p that ends with a condition. $1 is the account, $2 the folders in scope. */
async function namedBy(
  db: Queryable,
  account: Account,
  selector: RunSelector,
  scope: Scope,
  inScope: number[],
  now: Date,
): Promise<{ from: string; values: unknown[] }> {
  if ('where' in selector) {
    const { sql, values } = await select(db, account, selector.where, scope, now, false);
    return { from: sql, values };
  }
  const live = 'p.gone_at is null and p.folder = any($2::int[])';
  if ('brought' in selector)
    return {
      from: `from (select * from placement where account = $1 and trashed_by = $3::int) p where ${live}`,
      values: [account.id, inScope, selector.brought],
    };
  if ('savedIn' in selector)
    return {
      from: `from (select p.* from bag_file c join bag b on b.account = c.account and b.id = c.bag
          join placement p on p.account = c.account and p.message = c.file / 512
        where c.account = $1 and c.bag = $3::int and c.file % 512 = ${WHOLE_MESSAGE} and ${IS_WHOLE_COPY}) p where ${live}`,
      values: [account.id, inScope, selector.savedIn],
    };
  if ('ids' in selector || 'folders' in selector) {
    const [where, value] =
      'ids' in selector
        ? [placementsOf('$3::bigint[]'), selector.ids]
        : ['(select * from placement where account = $1 and folder = any($3::int[])) p', selector.folders];
    return { from: `from ${where} where ${live}`, values: [account.id, inScope, value] };
  }
  const [source, value] =
    'lots' in selector
      ? [`select range_agg(${HELD}) from lot where account = $1 and run is null and id = any($3::int[])`, selector.lots]
      : 'carried' in selector
        ? [
            `select range_agg(${HELD}) from lot where account = $1 and run is not null and id = any($3::int[])`,
            selector.carried,
          ]
        : 'run' in selector
          ? ['select members from run where account = $1 and id = $3::int', selector.run]
          : ['select range_agg(members) from run_left where account = $1 and run = $3::int', selector.rest];
  return { from: `from ${placementsIn(`(${source})`)} where ${live}`, values: [account.id, inScope, value] };
}

/** Why a pending member is not where it was frozen. */
export type Strayed = 'vanished' | 'moved' | 'changed';

/** A member whose folder has a new UIDVALIDITY, under which nobody has looked for it yet. */
export interface Unfollowed {
  id: number;
  /** The generation that was closed. */
  generation: number;
}

/** Some of the pending members of a run. */
export interface Pending {
  /** Those that lie where they were frozen. */
  atSource: PendingPlacement[];
  /** The ids of those that don't, by the reason. */
  strayed: Record<Strayed, number[]>;
  /** Those of which nobody can say it yet: a worker died before it had read the folder anew. */
  unfollowed: Unfollowed[];
}

/** The members of a run. */
export async function membersOfRun(db: Queryable, account: number, run: number): Promise<Ranges> {
  const { members } = await theRow<{ members: string }>(
    db,
    'select members::text as members from run where account = $1 and id = $2',
    [account, run],
  );
  return parseMultirange(members);
}

/** A run's members that no batch and no reason of being left has dealt with. */
const PENDING = `
  select r.members
    - coalesce((select range_agg(case when b.state = 'done' then b.done_members else b.members end)
                from run_batch b where b.account = r.account and b.run = r.id), '{}')
    - coalesce((select range_agg(l.members) from run_left l where l.account = r.account and l.run = r.id), '{}') as members
  from run r where r.account = $1 and r.id = $2`;

/** Those of some members that are pending where they were frozen. */
export async function pendingAmong(
  db: Queryable,
  account: number,
  run: number,
  ids: readonly number[],
): Promise<Set<number>> {
  const found = await rows<{ id: number }>(
    db,
    `with pending as materialized (${PENDING}),
     source as materialized (
       select s.folder, s.members * pending.members * $3::int8multirange as members
       from run_source s, pending where s.account = $1 and s.run = $2)
     select p.id from source cross join ${placementsIn('source.members')}
     where p.gone_at is null and p.folder = source.folder`,
    [account, run, printMultirange(rangesOf(ids))],
  );
  return new Set(found.map(({ id }) => id));
}

/**
 * The members that no batch and no reason of being left has dealt with, at most so many of them, in no certain order. Sets
 * are cut before they are unnested: to ask of every row whether a set holds it would unpack the set each time.
 */
export async function pendingOf(db: Queryable, account: number, run: number, most: number): Promise<Pending> {
  const found = await rows<PendingPlacement & { atSource: boolean }>(
    db,
    `with pending as materialized (${PENDING}),
     source as materialized (
       select s.folder, s.members * pending.members as members from run_source s, pending where s.account = $1 and s.run = $2)
     select p.id, p.generation, p.folder, p.uid, p.size, p.origin, p.flags, array_to_string(p.keywords, ' ') as keywords,
       p.gone_at is null and p.folder = source.folder as "atSource"
     from source cross join ${placementsIn('source.members')} limit $3`,
    [account, run, most],
  );
  return {
    atSource: found.filter(({ atSource }) => atSource),
    ...(await whyStrayed(
      db,
      account,
      found.filter(({ atSource }) => !atSource).map(({ id }) => id),
    )),
  };
}

/**
 * Of members that are not where they were frozen: gone from the index, in another folder by now, or not to be told apart
 * any more since the UIDVALIDITY of their folder changed.
 */
async function whyStrayed(
  db: Queryable,
  account: number,
  ids: readonly number[],
): Promise<Pick<Pending, 'strayed' | 'unfollowed'>> {
  const strayed: Record<Strayed, number[]> = { vanished: [], moved: [], changed: [] };
  const unfollowed: Unfollowed[] = [];
  if (ids.length === 0) return { strayed, unfollowed };
  const found = await rows<{ id: number; generation: number; why: Strayed | 'unfollowed' }>(
    db,
    `select p.id, p.generation, case when p.gone_at is null then 'moved'
                       when p.gone_at = g.closed_at and f.gone_at is null and not g.succeeded then 'unfollowed'
                       when p.gone_at = g.closed_at and f.gone_at is null then 'changed' else 'vanished' end as why
     from ${placementsOf('$2::bigint[]')}
     join generation g on g.account = $1 and g.id = p.generation join folder f on f.account = $1 and f.id = g.folder`,
    [account, ids],
  );
  for (const { id, generation, why } of found)
    if (why === 'unfollowed') unfollowed.push({ id, generation });
    else strayed[why].push(id);
  return { strayed, unfollowed };
}

/** Has members met in another folder than before: the server itself has put them there on the way. */
export async function moveSource(
  db: Queryable,
  account: number,
  run: number,
  folder: number,
  ids: readonly number[],
): Promise<void> {
  const members = printMultirange(rangesOf(ids));
  await db.query(
    'update run_source set members = members - $4::int8multirange where account = $1 and run = $2 and folder <> $3',
    [account, run, folder, members],
  );
  await db.query(
    `insert into run_source as s (account, run, folder, members) values ($1, $2, $3, $4::int8multirange)
     on conflict (account, run, folder) do update set members = s.members + excluded.members`,
    [account, run, folder, members],
  );
}

/** What the user let through in the lots of a run although a guard keeps it. */
export async function guardOverridesOf(db: Queryable, account: number, run: number): Promise<Ranges> {
  const { overrides } = await theRow<{ overrides: string }>(
    db,
    'select passed::text as overrides from run where account = $1 and id = $2',
    [account, run],
  );
  return parseMultirange(overrides);
}

/** Notes that messages are left, and why; the same message is left once. */
export async function leave(
  db: Queryable,
  account: number,
  run: number,
  reason: LeftReason,
  ids: readonly number[],
): Promise<void> {
  if (ids.length === 0) return;
  await db.query(
    `with new as (
       select $4::int8multirange - coalesce((select range_agg(members) from run_left where account = $1 and run = $2), '{}') as members),
     amount as (
       select count(p.id)::int as messages, coalesce(sum(p.size), 0)::bigint as bytes
       from new cross join ${placementsIn('new.members')})
     insert into run_left as l (account, run, reason, members, messages, bytes)
     select $1, $2, $3, new.members, amount.messages, amount.bytes from new, amount where not isempty(new.members)
     on conflict (account, run, reason) do update
     set members = l.members + excluded.members, messages = l.messages + excluded.messages, bytes = l.bytes + excluded.bytes`,
    [account, run, reason, printMultirange(rangesOf(ids))],
  );
}

/** Moves members from one reason of being left to another. */
export async function leaveForOtherReason(
  db: Queryable,
  account: number,
  run: number,
  from: LeftReason,
  to: LeftReason,
  ids: readonly number[],
): Promise<void> {
  if (ids.length === 0) return;
  const set = printMultirange(rangesOf(ids));
  await db.query(
    `update run_left l set members = l.members - $4::int8multirange, messages = l.messages - amount.messages,
       bytes = l.bytes - amount.bytes
     from (select count(*)::int as messages, coalesce(sum(p.size), 0)::bigint as bytes
           from ${placementsOf('$5::bigint[]')}) amount
     where l.account = $1 and l.run = $2 and l.reason = $3`,
    [account, run, from, set, ids],
  );
  await db.query('delete from run_left where account = $1 and run = $2 and reason = $3 and isempty(members)', [
    account,
    run,
    from,
  ]);
  await leave(db, account, run, to, ids);
}

/**
 * Of the members that were left as vanished those that came up in another folder since the run was frozen: by EMAILID,
 * else by Message-ID, size and INTERNALDATE together.
 */
export async function movedElsewhere(db: Queryable, account: number, run: number): Promise<number[]> {
  const key = `coalesce(m.email_id, format('%s %s %s', m.message_id, p.size, extract(epoch from p.received)::bigint))`;
  const isKnown = `(m.email_id is not null or m.message_id <> '')`;
  const vanished = await rows<{ id: number; key: string }>(
    db,
    `select p.id, ${key} as key from run_left l cross join ${placementsIn('l.members')} ${THEIR_MESSAGE}
     where l.account = $1 and l.run = $2 and l.reason = 'vanished' and ${isKnown}`,
    [account, run],
  );
  if (vanished.length === 0) return [];
  const came = await rows<{ key: string }>(
    db,
    `select ${key} as key from run r cross join lateral (
       select * from placement where account = $1 and id >= r.fresh_from and gone_at is null offset 0) p ${THEIR_MESSAGE}
     where r.account = $1 and r.id = $2 and ${isKnown}`,
    [account, run],
  );
  const there = new Set(came.map((placement) => placement.key));
  return vanished.filter((placement) => there.has(placement.key)).map(({ id }) => id);
}
