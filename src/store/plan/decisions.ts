import { instantOfAge } from '../../core/criteria/instants';
import type { Criteria } from '../../core/criteria/tree';
import type { Amount } from '../../core/level/level';
import { type GroupingKind, groupCriteria } from '../../core/senders/grouping';
import { parseVerdict, printVerdict, takenBy, type Verdict } from '../../core/senders/verdict';
import { rangesOf } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import { type Queryable, rows } from '../database';
import { foldersOf } from '../index/folders';
import { guardedNow, readGuarded } from '../index/guarded';
import { messagesOfSenders } from '../index/senders';
import { createGuard, guardsChanged } from './guards';
import { insertLots, type NewLot } from './lots';

/** What the user decided on a sender, and what carries it out: a lot, a guard, or nothing yet. */
export interface Decision {
  by: GroupingKind;
  key: string;
  /** As people write it. */
  decision: string;
  /** The criteria under which it was decided. */
  where: string;
  lot: number | null;
  guard: number | null;
  decidedAt: Date;
}

/** The decisions that stand: those whose lot has not been run. */
export async function decisionsOf(db: Queryable, account: number): Promise<Decision[]> {
  return rows<Decision>(
    db,
    `select d.by_what as by, d.key, d.verdict as decision, d.criteria as "where", d.lot, d.guard, d.decided_at as "decidedAt"
     from decision d left join lot on lot.account = d.account and lot.id = d.lot
     where d.account = $1 and lot.run is null order by d.decided_at`,
    [account],
  );
}

/** A decision to be taken; without a verdict, one to be taken back. */
export interface NewDecision {
  by: GroupingKind;
  key: string;
  verdict: Verdict | undefined;
  /** What its lot is called; the key where nothing is said. */
  label?: string | undefined;
}

/** What came of a decision: the messages that it names, before guards. */
export type Decided = Pick<NewDecision, 'by' | 'key'> & { decision: string } & Pick<Amount, 'messages'>;

/**
 * Takes decisions on senders under criteria, in a transaction of the caller's. One sender has one decision: a new one
 * takes the place of the old. To trash is a lot, to keep is a guard.
 *
 * @param where criteria as text, and parsed; '' is everything.
 */
export async function decide(
  db: Queryable,
  account: Account,
  decisions: readonly NewDecision[],
  where: { text: string; criteria: Criteria },
  now: Date,
): Promise<{ decided: Decided[]; guardsTouched: boolean }> {
  let guardsTouched = await takeBack(db, account.id, decisions);
  const decided: Decided[] = [];
  const lots: { decision: NewDecision; lot: NewLot }[] = [];
  const sent = (await foldersOf(db, account.id)).filter(({ role }) => role === 'sent').map(({ path }) => path);
  for (const [by, ofKind] of groupedBy(decisions)) {
    const found = await messagesOfSenders(
      db,
      account,
      where.criteria,
      by,
      ofKind.map(({ key }) => key),
      now,
    );
    for (const decision of ofKind) {
      const { key, verdict } = decision;
      if (!verdict) continue;
      const criteria = joined(where.text, groupCriteria(by, key, sent));
      const older =
        verdict.kind === 'older'
          ? instantOfAge(verdict.number, verdict.unit, now, account.settings.timeZone).getTime() / 1000
          : 0;
      const { members, except } = takenBy(verdict, found.get(key) ?? [], older);
      let guard: number | null = null;
      if (verdict.kind === 'keep') {
        guard = await createGuard(db, account.id, { kind: 'criteria', where: criteria, years: null, reason: '' });
        guardsTouched = true;
      }
      if (members.length > except.length) {
        const older = verdict.kind === 'older' ? ` and age > ${verdict.number}${verdict.unit}` : '';
        const label = `${decision.label ?? key}${verdict.kind === 'trash' ? '' : `: ${printVerdict(verdict)}`}`;
        lots.push({
          decision,
          lot: {
            label: label.slice(0, 200),
            fate: 'trash',
            where: `${criteria}${older}`,
            members: rangesOf(members),
            except: rangesOf(except),
          },
        });
      } else if (guard !== null || verdict.kind === 'later')
        await write(db, account.id, decision, where.text, { guard });
      decided.push({ by, key, decision: printVerdict(verdict), messages: members.length - except.length });
    }
  }
  // Once guards have changed here, only a fresh look knows what the others keep.
  const guarded = guardsTouched ? await readGuarded(db, account, now) : await guardedNow(db, account, now);
  const ids = await insertLots(
    db,
    account,
    guarded,
    lots.map(({ lot }) => lot),
  );
  for (const [index, { decision }] of lots.entries())
    await write(db, account.id, decision, where.text, { lot: ids[index] as number });
  if (guardsTouched) await guardsChanged(db, account);
  return { decided, guardsTouched };
}

/** Removes the decisions on these senders with their lots and guards; whether a guard was among them. */
async function takeBack(db: Queryable, account: number, decisions: readonly NewDecision[]): Promise<boolean> {
  const gone = await rows<{ lot: number | null; guard: number | null }>(
    db,
    `delete from decision d using unnest($2::text[], $3::text[]) as old (by_what, key)
     where d.account = $1 and d.by_what = old.by_what and d.key = old.key returning d.lot, d.guard`,
    [account, decisions.map(({ by }) => by), decisions.map(({ key }) => key)],
  );
  const numbers = (of: 'lot' | 'guard') => gone.flatMap((row) => row[of] ?? []);
  await db.query('delete from lot where account = $1 and id = any($2::int[]) and run is null', [
    account,
    numbers('lot'),
  ]);
  await db.query('delete from guard where account = $1 and id = any($2::int[])', [account, numbers('guard')]);
  return numbers('guard').length > 0;
}

async function write(
  db: Queryable,
  account: number,
  { by, key, verdict }: NewDecision,
  where: string,
  carried: { lot?: number; guard?: number | null },
): Promise<void> {
  await db.query(
    'insert into decision (account, by_what, key, verdict, criteria, lot, guard) values ($1, $2, $3, $4, $5, $6, $7)',
    [account, by, key, printVerdict(verdict as Verdict), where, carried.lot ?? null, carried.guard ?? null],
  );
}

function groupedBy(decisions: readonly NewDecision[]): Map<GroupingKind, NewDecision[]> {
  const groups = new Map<GroupingKind, NewDecision[]>();
  for (const decision of decisions) groups.set(decision.by, [...(groups.get(decision.by) ?? []), decision]);
  return groups;
}

function joined(where: string, sender: string): string {
  return where === '' ? sender : `(${where}) and ${sender}`;
}

/** The verdicts that stand, by grouping and key. */
export async function verdictsOf(db: Queryable, account: number): Promise<Map<string, Verdict>> {
  const decisions = await decisionsOf(db, account);
  return new Map(
    decisions.flatMap(({ by, key, decision }) => {
      const verdict = parseVerdict(decision);
      return verdict ? [[`${by} ${key}`, verdict] as const] : [];
    }),
  );
}
