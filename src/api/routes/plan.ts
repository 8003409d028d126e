import * as v from 'valibot';
import { peopleOf } from '../../core/evidence/rows';
import { missingAfter } from '../../core/level/level';
import { freeFolders } from '../../core/mailbox/folders';
import { bitsOfRanges } from '../../core/plan/bits';
import type { LeftOut } from '../../core/plan/refusals';
import { suggest } from '../../core/plan/suggestions';
import { printSequenceSet } from '../../core/sets/ranges';
import type { Account } from '../../store/accounts';
import { readColumns } from '../../store/columns';
import type { Queryable } from '../../store/database';
import { decisionsOf } from '../../store/decisions';
import { tell } from '../../store/events';
import { guardedNow } from '../../store/guards';
import { exceptFromPlan, planMembers } from '../../store/lots';
import { allowSuggestions, refusalsOf, refuseSuggestion } from '../../store/refusals';
import { shownLevel } from '../level';
import { route } from '../route';
import * as s from '../schemas';

/** Senders on whom the user wants to decide later: nothing of them is proposed until then. */
async function askedLater(db: Queryable, account: Account): Promise<LeftOut[]> {
  return (await decisionsOf(db, account.id)).flatMap(({ by, key, decision }) =>
    decision === 'ask later' && by !== 'recipient' ? [{ by, key }] : [],
  );
}

export const showPlan = route({
  method: 'GET',
  path: '/accounts/{account}/plan',
  summary:
    'The union of the plan as ids, purge before trash, each a sequence set (RFC 9051) or empty; and what suggestions leave out.',
  response: v.object({
    purge: v.string(),
    trash: v.string(),
    refused: v.array(v.string()),
    later: v.array(v.object({ by: v.string(), key: v.string() })),
  }),
  async handle({ environment: { database }, account }) {
    const members = await planMembers(database, account.id);
    return {
      purge: printSequenceSet(members.purge),
      trash: printSequenceSet(members.trash),
      refused: await refusalsOf(database, account.id),
      later: await askedLater(database, account),
    };
  },
});

export const exceptFrom = route({
  method: 'POST',
  path: '/accounts/{account}/plan/except',
  summary: 'Excepts messages from every lot that holds them.',
  body: v.object({ ids: s.Ids }),
  status: 204,
  async handle({ environment: { database }, account, body }) {
    await exceptFromPlan(database, account.id, body.ids);
    await tell(database, account.id, 'level', {});
  },
});

const Suggestion = v.object({
  key: v.string(),
  kind: v.string(),
  subject: v.string(),
  years: v.number(),
  where: v.string(),
  adds: s.Amount,
  evidence: v.number(),
  most: v.number(),
  senders: v.number(),
  largest: v.array(v.number()),
});

export const suggestions = route({
  method: 'GET',
  path: '/accounts/{account}/suggestions',
  summary:
    'The fewest decisions that reach the target once the trash is purged, in the order in which to take them: each to be made a lot by its `where` and its key as `suggestion`.',
  response: v.object({
    suggestions: v.array(Suggestion),
    reach: v.nullable(v.number()),
    stop: v.object({ after: v.number(), why: v.picklist(['little', 'evidence', 'end']) }),
  }),
  async handle({ environment: { database }, account }) {
    const level = await shownLevel(database, account);
    const { columns, trash } = await readColumns(database, account);
    const now = new Date();
    const inTrash = columns.dictionaries.folder.map((path) => trash.includes(path));
    const scope = Uint8Array.from(columns.folder, (code) => (inTrash[code] ? 0 : 1));
    const out = bitsOfRanges((await guardedNow(database, account, now)).members, columns.id);
    const members = await planMembers(database, account.id);
    for (const part of [members.purge, members.trash])
      for (const [index, word] of bitsOfRanges(part, columns.id).entries()) out[index] = (out[index] as number) | word;
    return suggest(columns, scope, out, peopleOf(columns, scope, now.getTime() / 1000), {
      now,
      timeZone: account.settings.timeZone,
      free: freeFolders(level.folders).map(({ path }) => path),
      refused: await refusalsOf(database, account.id),
      leftOut: await askedLater(database, account),
      missing: missingAfter(level),
    });
  },
});

const key = v.pipe(v.string(), v.minLength(1), v.maxLength(500));

export const refuse = route({
  method: 'POST',
  path: '/accounts/{account}/suggestions/refused',
  summary: 'Refuses a suggestion by its key: it is not made again. That of a sender leaves the sender out of all.',
  body: v.object({ key }),
  status: 204,
  async handle({ environment: { database }, account, body }) {
    await refuseSuggestion(database, account.id, body.key);
    await tell(database, account.id, 'level', {});
  },
});

export const allow = route({
  method: 'DELETE',
  path: '/accounts/{account}/suggestions/refused',
  summary: 'Lets refused suggestions be made again: the one of `key`, or all.',
  query: v.object({ key: v.optional(key) }),
  status: 204,
  async handle({ environment: { database }, account, query }) {
    await allowSuggestions(database, account.id, query.key);
    await tell(database, account.id, 'level', {});
  },
});
