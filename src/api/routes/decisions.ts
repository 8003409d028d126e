import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import type { Criteria } from '../../core/criteria/tree';
import type { Amount } from '../../core/level/level';
import { MUCH } from '../../core/plan/suggestions';
import type { GroupingKind } from '../../core/senders/grouping';
import { GROUP_ORDERS } from '../../core/senders/ranking';
import { decisionCell, readSheet as parseSheet, type SheetIssue, writeSheet } from '../../core/senders/sheet';
import { parseVerdict, printVerdict } from '../../core/senders/verdict';
import type { Account } from '../../store/access/accounts';
import { type Database, type Queryable, rehearsal, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { rankSenders, type Sender } from '../../store/index/senders';
import {
  type Decided,
  decisionsOf,
  type NewDecision,
  decide as takeDecisions,
  verdictsOf,
} from '../../store/plan/decisions';
import { planOf } from '../../store/plan/lots';
import { readyCriteria } from '../criteria';
import { invalid } from '../problem';
import { route } from '../route';

const Key = v.pipe(v.string(), v.maxLength(1_000));

export const listDecisions = route({
  method: 'GET',
  path: '/accounts/{account}/decisions',
  summary: 'Lists the decisions about senders, and the lot or guard of each.',
  response: v.object({ decisions: v.array(s.Decision) }),
  handle: async ({ environment, account }) => ({ decisions: await decisionsOf(environment.database, account.id) }),
});

/** Takes decisions in a transaction of the caller's, and gives what the plan is then. */
async function taken(
  client: Queryable,
  account: Account,
  decisions: readonly NewDecision[],
  where: { text: string; criteria: Criteria },
): Promise<{ decided: Decided[]; total: Amount }> {
  const { decided, guardsTouched } = await takeDecisions(client, account, decisions, where, clock.now());
  await tell(client, account.id, 'level', {});
  if (guardsTouched) await tell(client, account.id, 'index', {});
  return { decided, total: (await planOf(client, account.id)).total };
}

const DecidedShape = v.object({ by: s.GroupedBy, key: v.string(), decision: v.string(), messages: v.number() });

export const decide = route({
  method: 'POST',
  path: '/accounts/{account}/decisions',
  summary:
    'Decides about senders. `keep` creates a guard. `trash`, `trash older than 2y` and `trash all but the newest 10` create a lot. `ask later` leaves the sender out of suggestions. An empty decision undoes the one before. A new decision replaces the old one.',
  body: v.object({
    where: s.Where,
    decisions: v.pipe(
      v.array(
        v.object({
          by: s.GroupedBy,
          key: Key,
          decision: v.pipe(v.string(), v.maxLength(100)),
          label: v.optional(s.Label),
        }),
      ),
      v.minLength(1),
      v.maxLength(100_000),
    ),
  }),
  response: v.object({ decided: v.array(DecidedShape), total: s.Amount }),
  async handle({ environment: { database }, account, body }) {
    const criteria = await readyCriteria(database, account, body.where);
    const decisions = body.decisions.map(({ decision, ...sender }, index): NewDecision => {
      const verdict = decision.trim() === '' ? undefined : parseVerdict(decision);
      if (decision.trim() !== '' && !verdict)
        throw invalid(`“${decision}” is no decision.`, [
          {
            field: `decisions.${index}.decision`,
            expected: 'keep, trash, trash older than 2y, trash all but the newest 10, ask later',
          },
        ]);
      if (sender.key === '' && verdict?.kind === 'keep')
        throw invalid('Mail without a sender can’t be kept by its sender.', [{ field: `decisions.${index}.key` }]);
      return { ...sender, verdict };
    });
    return transaction(database, (client) => taken(client, account, decisions, { text: body.where, criteria }));
  },
});

export const downloadDecisionSheet = route({
  method: 'GET',
  formats: ['text/csv'],
  path: '/accounts/{account}/decisions/sheet',
  summary: 'Returns the ranking of senders as CSV (RFC 4180), with a column for decisions.',
  query: v.object({
    where: s.Where,
    by: v.optional(s.GroupedBy, 'domain'),
    order: v.optional(v.picklist(GROUP_ORDERS), 'bytes'),
  }),
  async handle({ environment: { database }, account, query }) {
    const criteria = await readyCriteria(database, account, query.where);
    const senders = await rankSenders(database, account, criteria, 'mail', clock.now(), query);
    const verdicts = await verdictsOf(database, account.id);
    const day = (instant: Date) => instant.toISOString().slice(0, 10);
    const sheet = writeSheet(
      senders.map((sender) => ({
        by: query.by,
        key: sender.key,
        name: sender.name,
        messages: `${sender.messages}`,
        bytes: `${sender.bytes}`,
        first: day(sender.first),
        last: day(sender.last),
        unread: `${sender.unseen}`,
        'you wrote': `${sender.written}`,
        evidence: `${sender.evidence}`,
        decision: decisionCell(verdicts.get(`${query.by} ${sender.key}`)),
      })),
    );
    return new Response(sheet, {
      headers: {
        'content-type': 'text/csv; charset=utf-8; header=present',
        'content-disposition': `attachment; filename="senders-by-${query.by}.csv"`,
      },
    });
  },
});

export const readDecisionSheet = route({
  method: 'POST',
  path: '/accounts/{account}/decisions/sheet',
  summary:
    'Reads a completed sheet. It reports what the decisions would do, and which lines are wrong or doubtful. It applies them only with `apply`.',
  large: true,
  body: v.object({ sheet: v.string(), where: s.Where, apply: v.optional(v.boolean(), false) }),
  response: s.SheetReading,
  async handle({ environment: { database }, account, body }) {
    const criteria = await readyCriteria(database, account, body.where);
    const { decisions, issues } = parseSheet(body.sheet);
    const known = await sendersOf(database, account, criteria, new Set(decisions.map(({ by }) => by)));
    const refused: SheetIssue[] = [...issues];
    const doubtful: SheetIssue[] = [];
    const standing = decisions.filter(({ line, by, key, messages, verdict }) => {
      const sender = known.get(`${by} ${key}`);
      if (!sender || key === '') {
        refused.push({ line, note: 'no-such-sender', cell: key });
        return false;
      }
      if (messages !== undefined && messages !== sender.messages)
        doubtful.push({ line, note: 'changed', cell: `${sender.messages}` });
      if (verdict.kind !== 'keep' && verdict.kind !== 'later' && sender.evidence >= MUCH)
        doubtful.push({ line, note: 'much-evidence', cell: `${sender.evidence}` });
      return true;
    });
    const act = (client: Queryable) =>
      taken(
        client,
        account,
        standing.map(({ by, key, verdict }) => ({ by, key, verdict, label: known.get(`${by} ${key}`)?.name || key })),
        { text: body.where, criteria },
      );
    const { decided, total } = await (body.apply ? transaction(database, act) : rehearsal(database, act));
    const messages = new Map(decided.map((one) => [`${one.by} ${one.key}`, one.messages]));
    const lines = standing.map(({ line, by, key, verdict }) => ({
      line,
      by,
      key,
      decision: printVerdict(verdict),
      messages: messages.get(`${by} ${key}`) ?? 0,
    }));
    for (const { line, key, decision, messages: count } of lines)
      if (count === 0 && decision.startsWith('trash')) doubtful.push({ line, note: 'takes-nothing', cell: key });
    return {
      decisions: lines,
      issues: [
        ...refused.map((issue) => ({ ...issue, refused: true })),
        ...doubtful.map((issue) => ({ ...issue, refused: false })),
      ].sort((a, b) => a.line - b.line),
      total,
      applied: body.apply,
    };
  },
});

/** The senders of some groupings under criteria, by grouping and key. */
async function sendersOf(
  database: Database,
  account: Account,
  criteria: Criteria,
  groupings: ReadonlySet<GroupingKind>,
): Promise<Map<string, Sender>> {
  const known = new Map<string, Sender>();
  for (const by of groupings)
    for (const sender of await rankSenders(database, account, criteria, 'mail', clock.now(), { by, order: 'bytes' }))
      known.set(`${by} ${sender.key}`, sender);
  return known;
}
