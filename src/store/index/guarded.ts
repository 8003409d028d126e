import { categoryNumber } from '../../core/categories/categories';
import { instantOfAge } from '../../core/criteria/instants';
import { parseCriteria } from '../../core/criteria/parse';
import { criteriaToSql } from '../../core/criteria/sql';
import type { Criteria } from '../../core/criteria/tree';
import {
  CORRESPONDENCE_YEARS,
  GUARD_KINDS,
  type GuardKind,
  guardCriteria,
  KEEP_FILES,
  keepsInTrash,
} from '../../core/guards/guards';
import type { Amount } from '../../core/level/level';
import { trashFolders } from '../../core/mailbox/folders';
import { parseMultirange, type Ranges, union } from '../../core/sets/ranges';
import { fold } from '../../core/text';
import type { Account } from '../access/accounts';
import { type Queryable, rows, theRow } from '../database';
import { foldersOf } from './folders';
import { placementsOf, THEIR_MESSAGE } from './spans';

/** A guard as the user sees it. */
export interface Guard {
  id: number;
  kind: GuardKind;
  /** '' for the kinds that are there from the beginning. */
  where: string;
  years: number | null;
  reason: string;
  active: boolean;
  madeAt: Date;
  liftedAt: Date | null;
  liftReason: string | null;
}

export const GUARD_COLUMNS = `id, kind, criteria as "where", years, reason, active, made_at as "madeAt", lifted_at as "liftedAt", lift_reason as "liftReason"`;

export async function guardsOf(db: Queryable, account: number): Promise<Guard[]> {
  return rows<Guard>(db, `select ${GUARD_COLUMNS} from guard where account = $1 order by id`, [account]);
}

/** What one guard keeps now. */
export interface GuardedSet extends Amount {
  guard: number;
  kind: GuardKind;
  members: Ranges;
}

/** What all active guards keep now. */
export interface Guarded {
  sets: GuardedSet[];
  /** Their union, and what of it lies in the trash. */
  members: Ranges;
  total: Amount;
  inTrash: Amount;
}

/** What keeps messages from having files taken out of them. */
export function keepingFiles({ sets }: Guarded): Ranges {
  return union(sets.filter(({ kind }) => KEEP_FILES.includes(kind)).map(({ members }) => members));
}

/** The newest answers by account: whatever changes the index or a guard counts up the version. */
const known = new Map<number, { version: number; at: number; guarded: Guarded }>();
const MAX_CACHED = 32;
/** Ages move on with the clock; they are looked at again when a run begins. */
const KNOWN_MS = 60_000;

/**
 * What each active guard keeps of the live placements, as of a moment ago. Not for a transaction that has changed the
 * index itself: what it is told would be remembered even if it were undone.
 */
export async function guardedNow(db: Queryable, account: Account, now: Date): Promise<Guarded> {
  const { version } = await theRow<{ version: number }>(
    db,
    'select index_version as version from account where id = $1',
    [account.id],
  );
  const old = known.get(account.id);
  if (old && old.version === version && now.getTime() - old.at < KNOWN_MS && now.getTime() >= old.at)
    return old.guarded;
  const guarded = await readGuarded(db, account, now);
  known.delete(account.id);
  known.set(account.id, { version, at: now.getTime(), guarded });
  for (const oldest of known.keys()) {
    if (known.size <= MAX_CACHED) break;
    known.delete(oldest);
  }
  return guarded;
}

/** The conditions of the active guards, over p (placement, with in_trash) and m (message). $1 is the account. */
interface GuardConditions {
  guards: Guard[];
  conditions: string[];
  /** $2 is the folders that are counted, $3 those of the trash. */
  values: unknown[];
}

async function guardConditions(
  db: Queryable,
  account: Account,
  now: Date,
  kinds: readonly GuardKind[] = GUARD_KINDS,
): Promise<GuardConditions> {
  const guards = (await guardsOf(db, account.id)).filter(({ active, kind }) => active && kinds.includes(kind));
  const folders = (await foldersOf(db, account.id)).filter(({ repeats }) => !repeats);
  const pathsOf = (role: string) => folders.filter((folder) => folder.role === role).map(({ path }) => path);
  const paths = { drafts: pathsOf('drafts'), sent: pathsOf('sent') };
  const trash = trashFolders(folders, account.settings.trashFolder).map(({ id }) => id);
  const context = { now, timeZone: account.settings.timeZone, folders, texts: new Map(), guarded: [], words: null };
  const values: unknown[] = [account.id, folders.map(({ id }) => id), trash];
  const conditions: string[] = [];
  for (const guard of guards) {
    const criteria = guardCriteria({ ...guard, criteria: criteriaOf(guard) }, paths);
    const compiled = criteriaToSql(criteria, context, values.length + 1);
    values.push(...compiled.values);
    let { text } = compiled;
    if (guard.kind === 'correspondents') {
      values.push(await correspondents(db, account, now), NOT_FROM_PEOPLE);
      text = `(${text} or (m.from_address_folded = any($${values.length - 1}::text[]) and p.category <> all($${values.length}::int[])))`;
    }
    if (!keepsInTrash(guard.kind)) text = `(not p.in_trash and ${text})`;
    else if (!KEEP_FILES.includes(guard.kind)) text = `(${text} and not (p.in_trash and ${STANDS_ELSEWHERE}))`;
    conditions.push(text);
  }
  return { guards, conditions, values };
}

/**
 * Whether what a message says stands in another one that is there, without its files. What protects the text alone lets the
 * original be purged then. Looked up by its key: as `exists` the planner may read those of all accounts instead.
 */
const STANDS_ELSEWHERE = `coalesce((select true from run_rewrite w
  join placement r on r.account = w.account and r.generation = w.generation and r.uid = w.uid and r.gone_at is null
  where w.account = p.account and w.placement = p.id and w.state = 'standing' limit 1), false)`;

/** The same, read at once: one pass over the account, every guard a column. */
export async function readGuarded(db: Queryable, account: Account, now: Date): Promise<Guarded> {
  const { guards, conditions, values } = await guardConditions(db, account, now);
  if (guards.length === 0) return { sets: [], members: [], total: nothing, inTrash: nothing };
  const amount = (name: string, condition: string) =>
    `coalesce(range_agg(int8range(id, id + 1)) filter (where ${condition}), '{}')::text as "${name} members",
     count(*) filter (where ${condition})::int as "${name} messages",
     coalesce(sum(size) filter (where ${condition}), 0)::bigint as "${name} bytes"`;
  const any = conditions.map((_, index) => `g${index}`).join(' or ');
  const found = await theRow<Record<string, unknown>>(
    db,
    `select ${conditions.map((_, index) => amount(`${index}`, `g${index}`)).join(', ')},
       ${amount('all', any)}, ${amount('trash', `in_trash and (${any})`)}
     from (
       select p.id, p.size, p.in_trash, ${conditions.map((condition, index) => `${condition} as g${index}`).join(', ')}
       from (select *, folder = any($3::int[]) as in_trash from placement) p
       join message m on m.account = p.account and m.id = p.message
       where p.account = $1 and p.gone_at is null and p.folder = any($2::int[])) row`,
    values,
  );
  const amountOf = (name: string): Amount => ({
    messages: found[`${name} messages`] as number,
    bytes: found[`${name} bytes`] as number,
  });
  const membersOf = (name: string) => parseMultirange(found[`${name} members`] as string);
  return {
    sets: guards.map(({ id, kind }, index) => ({
      guard: id,
      kind,
      members: membersOf(`${index}`),
      ...amountOf(`${index}`),
    })),
    members: membersOf('all'),
    total: amountOf('all'),
    inTrash: amountOf('trash'),
  };
}

/**
 * Which of some placements are kept now, by guards and by holds; the cost is that of these placements.
 *
 * @param kinds guards that count.
 */
export async function keptAmong(
  db: Queryable,
  account: Account,
  now: Date,
  ids: readonly number[],
  kinds?: readonly GuardKind[],
): Promise<Record<'guarded' | 'held', number[]>> {
  const { guards, conditions, values } = await guardConditions(db, account, now, kinds);
  const anyOf = (holds: boolean) =>
    conditions.filter((_, index) => (guards[index]?.kind === 'hold') === holds).join(' or ') || 'false';
  const found = await rows<{ id: number; held: boolean; guarded: boolean }>(
    db,
    `select * from (
       select p.id, coalesce(${anyOf(true)}, false) as held, coalesce(${anyOf(false)}, false) as guarded
       from ${placementsOf(`$${values.length + 1}::bigint[]`, ', folder = any($3::int[]) as in_trash')} ${THEIR_MESSAGE}
       where p.gone_at is null and p.folder = any($2::int[])) kept
     where held or guarded`,
    [...values, ids],
  );
  return {
    held: found.filter(({ held }) => held).map(({ id }) => id),
    guarded: found.filter(({ held, guarded }) => guarded && !held).map(({ id }) => id),
  };
}

const nothing: Amount = { messages: 0, bytes: 0 };

/** Categories that are no mail from people to the user, whatever address they bear. */
const NOT_FROM_PEOPLE = (['mailings', 'automatic', 'own'] as const).map(categoryNumber);

function criteriaOf({ where }: Guard): Criteria {
  const parsed = parseCriteria(where);
  // They were read when the guard was made; what can't be read any more keeps everything.
  return parsed.ok ? parsed.criteria : { kind: 'everything' };
}

/** The addresses, folded, that the user wrote to in the last year. */
async function correspondents(db: Queryable, account: Account, now: Date): Promise<string[]> {
  const since = instantOfAge(CORRESPONDENCE_YEARS, 'y', now, account.settings.timeZone);
  const found = await rows<{ address: string }>(
    db,
    `select distinct r ->> 'address' as address
     from folder f join generation g on g.account = f.account and g.folder = f.id and g.closed_at is null
     cross join lateral (
       select * from placement where account = $1 and generation = g.id and gone_at is null and received >= $2 offset 0) p
     ${THEIR_MESSAGE}, jsonb_array_elements(m.recipients) r
     where f.account = $1 and f.role = 'sent'`,
    [account.id, since],
  );
  return found.map(({ address }) => fold(address)).filter(Boolean);
}
