import type { Criteria } from '../../core/criteria/tree';
import { pastMonths } from '../../core/forecast/months';
import { KEEP_FILES } from '../../core/guards/guards';
import { FLAG_BITS } from '../../core/mailbox/flags';
import { type Fate, isOfFiles } from '../../core/plan/fates';
import { parseMultirange, printMultirange, type Ranges, union } from '../../core/sets/ranges';
import { MOST_NAMED, TRIAL_MONTHS, type Trial } from '../../core/standing/trial';
import type { Account } from '../access/accounts';
import { type Queryable, theRow } from '../database';
import { guardedNow } from '../index/guarded';
import { type Past, select, selectFiles } from '../index/selection';

interface Taken {
  members: string;
  messages: number;
  bytes: number;
  seen: number;
  answered: number;
  flagged: number;
  cared: number[];
}

/**
 * Tries a standing lot on the past: at the end of each month that is over, what would have come to it since the end of the month
 * before. Only what is still there is known, with the flags that it has now.
 */
export async function tryOnPast(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  fate: Fate,
  now: Date,
): Promise<Trial> {
  const guarded = await guardedNow(db, account, now);
  const kept = isOfFiles(fate)
    ? union(guarded.sets.filter(({ kind }) => KEEP_FILES.includes(kind)).map(({ members }) => members))
    : guarded.members;
  const starts = pastMonths(now, TRIAL_MONTHS, account.settings.timeZone);
  const takenBy = (instant: Date, without: Ranges) =>
    takenAt(db, account, criteria, fate, kept, instant, { instant, without });
  const { members: _, cared, ...gathered } = await takenAt(db, account, criteria, fate, kept, now);
  // What had gathered before the first of the months did not come in them.
  let taken = parseMultirange((await takenBy(starts[0] as Date, [])).members);
  const months: Trial['months'] = [];
  for (const [at, from] of starts.slice(0, -1).entries()) {
    const { members, cared: alsoCared, ...amounts } = await takenBy(starts[at + 1] as Date, taken);
    taken = union([taken, parseMultirange(members)]);
    months.push({ from: from.toISOString(), ...amounts });
    cared.push(...alsoCared);
  }
  return { now: gathered, months, cared: [...new Set(cared)].slice(0, MOST_NAMED) };
}

/** What matches, now or as of an instant of the past, without what guards keep. */
async function takenAt(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  fate: Fate,
  kept: Ranges,
  now: Date,
  past?: Past,
): Promise<Taken> {
  const ofFiles = isOfFiles(fate);
  // What guards keep is left out here and not in the past, so that it still counts among the newest of its author.
  const { sql, values } = ofFiles
    ? await selectFiles(db, account, criteria, 'mail', now, past)
    : await select(db, account, criteria, 'mail', now, false, past);
  const has = (flag: 'seen' | 'answered' | 'flagged') => `flags & ${FLAG_BITS[flag]} <> 0`;
  return theRow<Taken>(
    db,
    `with taken as materialized (
       select p.id, p.flags, p.received, ${ofFiles ? 'sum(f.own_size)' : 'p.size'} as size ${sql}
         and not p.id <@ $${values.length + 1}::int8multirange ${ofFiles ? 'group by p.id, p.flags, p.received' : ''})
     select coalesce(range_agg(int8range(id, id + 1)), '{}')::text as members, count(*)::int as messages,
       coalesce(sum(size), 0)::bigint as bytes, (count(*) filter (where ${has('seen')}))::int as seen,
       (count(*) filter (where ${has('answered')}))::int as answered, (count(*) filter (where ${has('flagged')}))::int as flagged,
       coalesce((select array_agg(id) from (
         select id from taken where ${has('seen')} or ${has('answered')} or ${has('flagged')}
         order by ${has('flagged')} desc, ${has('answered')} desc, received desc limit ${MOST_NAMED}) looked), '{}')::int[] as cared
     from taken`,
    [...values, printMultirange(kept)],
  );
}
