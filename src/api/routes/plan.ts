import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import { KEEP_FILES } from '../../core/guards/guards';
import { missingAfter } from '../../core/level/gauge';
import { freeFolders } from '../../core/mailbox/folders';
import { bitsOfRanges, hasBit } from '../../core/plan/bits';
import type { LeftOut } from '../../core/plan/dismissals';
import { takableFiles } from '../../core/plan/file-candidates';
import { suggest } from '../../core/plan/suggestions';
import { peopleOf } from '../../core/senders/people';
import { printSequenceSet, type Ranges, union } from '../../core/sets/ranges';
import type { Account } from '../../store/access/accounts';
import { readFileColumns } from '../../store/archive/file-columns';
import type { Queryable } from '../../store/database';
import { tell } from '../../store/events';
import { readColumns } from '../../store/index/columns';
import { guardedNow } from '../../store/index/guarded';
import { decisionsOf } from '../../store/plan/decisions';
import { dismissalsOf, dismissSuggestion, restoreSuggestions } from '../../store/plan/dismissals';
import { exceptFromPlan, planMembers } from '../../store/plan/lots';
import { shownLevel } from '../level';
import { route } from '../route';

/** Senders on whom the user wants to decide later: nothing of them is proposed until then. */
async function askedLater(db: Queryable, account: Account): Promise<LeftOut[]> {
  return (await decisionsOf(db, account.id)).flatMap(({ by, key, decision }) =>
    decision === 'ask later' && by !== 'recipient' ? [{ by, key }] : [],
  );
}

/** What guards of the user's own, and holds, keep from losing files. */
async function keptFromStrip(db: Queryable, account: Account): Promise<Ranges> {
  const { sets } = await guardedNow(db, account, clock.now());
  return union(sets.filter(({ kind }) => KEEP_FILES.includes(kind)).map(({ members }) => members));
}

export const getPlan = route({
  method: 'GET',
  path: '/accounts/{account}/plan',
  summary: 'Returns the messages of the whole plan as ids, and what suggestions leave out.',
  response: s.Plan,
  async handle({ environment: { database }, account }) {
    const members = await planMembers(database, account.id);
    return {
      purge: printSequenceSet(members.purge),
      trash: printSequenceSet(members.trash),
      strip: printSequenceSet(members.strip),
      kept: printSequenceSet(await keptFromStrip(database, account)),
      dismissed: await dismissalsOf(database, account.id),
      later: await askedLater(database, account),
    };
  },
});

export const exceptFrom = route({
  method: 'POST',
  path: '/accounts/{account}/plan/except',
  summary: 'Excludes messages from every lot.',
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
  fate: v.picklist(['trash', 'strip']),
  files: v.number(),
  subject: v.string(),
  years: v.number(),
  where: v.string(),
  adds: s.Amount,
  evidence: v.number(),
  most: v.number(),
  senders: v.number(),
  largest: v.array(v.number()),
});

export const listSuggestions = route({
  method: 'GET',
  path: '/accounts/{account}/suggestions',
  summary:
    'Suggests the fewest decisions that reach the target once the trash is purged. To take one, create a lot with its `where` and `fate`, and its `key` as `suggestion`.',
  response: v.object({
    suggestions: v.array(Suggestion),
    reach: v.nullable(v.number()),
    stop: v.object({ after: v.number(), why: v.picklist(['little', 'evidence', 'end']) }),
  }),
  async handle({ environment: { database }, account }) {
    const level = await shownLevel(database, account);
    const { columns, trash } = await readColumns(database, account);
    const now = clock.now();
    const inTrash = columns.dictionaries.folder.map((path) => trash.includes(path));
    const scope = Uint8Array.from(columns.folder, (code) => (inTrash[code] ? 0 : 1));
    const out = bitsOfRanges((await guardedNow(database, account, now)).members, columns.id);
    const members = await planMembers(database, account.id);
    for (const part of [members.purge, members.trash, members.strip])
      for (const [index, word] of bitsOfRanges(part, columns.id).entries()) out[index] = (out[index] as number) | word;
    const kept = bitsOfRanges(await keptFromStrip(database, account), columns.id);
    const inPlan = bitsOfRanges(union([members.purge, members.trash, members.strip]), columns.id);
    const files = takableFiles(
      await readFileColumns(database, account),
      columns,
      (row) => scope[row] === 1 && !hasBit(kept, row) && !hasBit(inPlan, row),
    );
    return suggest(columns, scope, out, peopleOf(columns, scope, now.getTime() / 1000), {
      now,
      timeZone: account.settings.timeZone,
      free: freeFolders(level.folders).map(({ path }) => path),
      dismissed: await dismissalsOf(database, account.id),
      leftOut: await askedLater(database, account),
      missing: missingAfter(level),
      files,
    });
  },
});

const key = v.pipe(v.string(), v.minLength(1), v.maxLength(500));

export const dismiss = route({
  method: 'POST',
  path: '/accounts/{account}/suggestions/dismissed',
  summary:
    'Dismisses a suggestion by its key. It is not made again. Dismissing a sender’s suggestion leaves that sender out of all suggestions.',
  body: v.object({ key }),
  status: 204,
  async handle({ environment: { database }, account, body }) {
    await dismissSuggestion(database, account.id, body.key);
    await tell(database, account.id, 'level', {});
  },
});

export const allow = route({
  method: 'DELETE',
  path: '/accounts/{account}/suggestions/dismissed',
  summary: 'Allows dismissed suggestions again: the one with `key`, or all.',
  query: v.object({ key: v.optional(key) }),
  status: 204,
  async handle({ environment: { database }, account, query }) {
    await restoreSuggestions(database, account.id, query.key);
    await tell(database, account.id, 'level', {});
  },
});
