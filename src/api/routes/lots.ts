import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import { printCriteria } from '../../core/criteria/print';
import { isOfFiles } from '../../core/plan/fates';
import { printSequenceSet, type Ranges } from '../../core/sets/ranges';
import type { Account } from '../../store/access/accounts';
import { checkedFilesOf } from '../../store/archive/bags';
import { type Queryable, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { pageOfMessages } from '../../store/index/messages';
import {
  changeLot,
  createLot,
  dropLot,
  guardsOfLot,
  type Lot,
  partOfLot,
  planOf,
  splitLot,
} from '../../store/plan/lots';
import { readyCriteria } from '../criteria';
import { cursorFrom, cursorText } from '../cursor';
import { conflict, invalid, notFound } from '../problem';
import { route } from '../route';

async function lotById(db: Queryable, account: Account, id: number): Promise<Lot> {
  const lot = (await planOf(db, account.id)).lots.find((one) => one.id === id);
  if (!lot) throw notFound();
  return lot;
}

export const makeLot = route({
  method: 'POST',
  path: '/accounts/{account}/lots',
  summary:
    'Creates a lot: it marks a set of messages for the trash (`trash`, or `archive` where they are saved and read back before) or a purge, or of files that are taken out of their messages (`strip`), or of pictures that are made smaller (`shrink`), and freezes the set. Send either `where` or `ids`; for `strip` and `shrink` they are of files. Messages that a guard protects stay out.',
  body: v.object({
    label: v.optional(s.Label),
    fate: v.optional(s.Fate, 'trash'),
    where: v.optional(v.pipe(v.string(), v.maxLength(10_000))),
    ids: v.optional(s.Ids),
    /** How pictures are made smaller, for `shrink`. */
    shrinking: v.optional(s.Shrinking),
    /** Checked files of a bag, for `strip` and `shrink`. */
    bag: v.optional(v.pipe(v.number(), v.integer(), v.minValue(1))),
    except: v.optional(s.Ids, []),
    scope: s.Scope,
    suggestion: v.optional(v.pipe(v.string(), v.maxLength(500))),
    expect: v.optional(s.Amount),
  }),
  status: 201,
  response: s.Lot,
  async handle({ environment, account, body }) {
    const { where, bag } = body;
    if ([where, body.ids, bag].filter((one) => one !== undefined).length !== 1)
      throw invalid('Say one of where, ids and bag.', [
        { field: 'where', expected: 'exactly one of where, ids and bag' },
      ]);
    const ofFiles = isOfFiles(body.fate);
    if (bag !== undefined && !ofFiles)
      throw invalid('A bag names files, which are taken out of the mail or made smaller.', [
        { field: 'fate', expected: 'strip or shrink' },
      ]);
    if ((body.fate === 'shrink') !== (body.shrinking !== undefined))
      throw invalid('Say how pictures are made smaller, and only for the fate shrink.', [
        { field: 'shrinking', expected: body.fate === 'shrink' ? 'longest, and perhaps place' : 'nothing' },
      ]);
    const ids = bag === undefined ? body.ids : await checkedFilesOf(environment.database, account.id, bag);
    // What lies in the trash can't be moved there.
    if (body.fate !== 'purge' && body.scope !== 'mail')
      throw invalid('In the trash, messages can only be marked for a purge.', [{ field: 'scope', expected: 'mail' }]);
    const criteria =
      body.where === undefined ? undefined : await readyCriteria(environment.database, account, body.where);
    const text = criteria && printCriteria(criteria);
    return transaction(environment.database, async (client) => {
      const id = await createLot(client, account, {
        label:
          body.label ??
          (text === undefined ? `${ids?.length ?? 0} chosen ${ofFiles ? 'files' : 'messages'}` : text || 'everything'),
        fate: body.fate,
        shrinking: body.shrinking ?? null,
        selector: criteria ? { where: criteria, text: text ?? '' } : { ids: ids ?? [] },
        except: body.except,
        scope: body.scope,
        suggestion: body.suggestion ?? null,
        now: clock.now(),
      });
      const made = await lotById(client, account, id);
      const named = { messages: made.messages + made.guarded.messages, bytes: made.bytes + made.guarded.bytes };
      // Thrown here, so that what was refused was never there.
      if (named.messages === 0)
        throw invalid('Nothing matches, so there is nothing to mark.', [
          {
            field: body.where === undefined ? 'ids' : 'where',
            expected: ofFiles ? 'files that are there' : 'messages that are there',
          },
        ]);
      if (body.expect && (body.expect.messages !== named.messages || body.expect.bytes !== named.bytes))
        throw conflict(
          'not-as-expected',
          'The mailbox has changed in the meantime. Check what matches now, and mark again.',
        );
      await tell(client, account.id, 'level', {});
      return made;
    });
  },
});

export const listLots = route({
  method: 'GET',
  path: '/accounts/{account}/lots',
  summary: 'Lists the lots of the plan, their union, and what guards keep out of them.',
  response: s.LotList,
  handle: ({ environment, account }) => planOf(environment.database, account.id),
});

export const getLot = route({
  method: 'GET',
  path: '/accounts/{account}/lots/{lot}',
  summary: 'Returns a lot with the ids of its messages, as a sequence set (RFC 9051).',
  response: v.object({ ...s.Lot.entries, ids: v.string() }),
  async handle({ environment: { database }, account, parameters }) {
    const lot = await lotById(database, account, Number(parameters.lot));
    const held = await partOfLot(database, account.id, lot.id, 'held');
    return { ...lot, ids: printSequenceSet(held ?? []) };
  },
});

export const alterLot = route({
  method: 'PATCH',
  path: '/accounts/{account}/lots/{lot}',
  summary:
    'Changes a lot. `except` replaces its exceptions and `alsoExcept` adds to them. `allow` replaces the messages that go although a guard protects them; a hold can’t be overridden. `fate` says of a lot for the trash whether its messages are archived before. `place` is its position.',
  body: v.object({
    label: v.optional(s.Label),
    except: v.optional(s.Ids),
    alsoExcept: v.optional(s.Ids),
    allow: v.optional(s.Ids),
    fate: v.optional(v.picklist(['trash', 'archive'])),
    place: v.optional(v.pipe(v.number(), v.integer(), v.minValue(0))),
  }),
  response: s.Lot,
  async handle({ environment: { database }, account, parameters, body }) {
    const id = Number(parameters.lot);
    return transaction(database, async (client) => {
      const lot = await lotById(client, account, id);
      if (body.fate && lot.fate !== 'trash' && lot.fate !== 'archive')
        throw conflict('other-fate', `The lot “${lot.label}” is for another action: ${lot.fate}.`);
      if (!(await changeLot(client, account, id, body, clock.now()))) throw notFound();
      await tell(client, account.id, 'level', {});
      return lotById(client, account, id);
    });
  },
});

export const deleteLot = route({
  method: 'DELETE',
  path: '/accounts/{account}/lots/{lot}',
  summary: 'Removes a lot from the plan.',
  status: 204,
  async handle({ environment, account, parameters }) {
    if (!(await dropLot(environment.database, account.id, Number(parameters.lot)))) throw notFound();
    await tell(environment.database, account.id, 'level', {});
  },
});

export const splitOff = route({
  method: 'POST',
  path: '/accounts/{account}/lots/{lot}/split',
  summary: 'Moves the messages that match from a lot into a new lot, and returns the new one.',
  body: v.object({ where: v.pipe(v.string(), v.minLength(1), v.maxLength(10_000)), label: v.optional(s.Label) }),
  status: 201,
  response: s.Lot,
  async handle({ environment: { database }, account, parameters, body }) {
    const where = await readyCriteria(database, account, body.where);
    const text = printCriteria(where);
    return transaction(database, async (client) => {
      const old = await lotById(client, account, Number(parameters.lot));
      const label = body.label ?? `${old.label}: ${text}`.slice(0, 200);
      const made = await splitLot(client, account, old.id, { where, text, label }, clock.now());
      if (made === undefined)
        throw invalid('Either nothing or everything in this lot matches, so there is nothing to split.', [
          { field: 'where', expected: 'criteria that some of the lot meet' },
        ]);
      await tell(client, account.id, 'level', {});
      return lotById(client, account, made);
    });
  },
});

export const listLotMessages = route({
  method: 'GET',
  path: '/accounts/{account}/lots/{lot}/messages',
  summary:
    'Lists the messages of a lot, largest first: the ones it holds, the excluded ones, or the ones that guards protect.',
  query: v.object({
    part: v.optional(v.picklist(['held', 'excepted', 'guarded']), 'held'),
    limit: v.optional(s.wholeNumber(1, 1_000), '100'),
    after: v.optional(v.string()),
  }),
  response: v.object({
    messages: v.array(s.LotMessage),
    next: v.optional(v.string()),
  }),
  async handle({ environment: { database }, account, parameters, query }) {
    const lot = Number(parameters.lot);
    const within = await partOfLot(database, account.id, lot, query.part);
    if (!within) throw notFound();
    const { messages, next } = await pageOfMessages(database, account, { kind: 'everything' }, 'all', clock.now(), {
      order: 'size',
      direction: 'down',
      limit: query.limit,
      after: cursorFrom(query.after),
      within,
    });
    const more = next ? { next: cursorText(next) } : {};
    if (query.part !== 'guarded') return { messages, ...more };
    const { guards, overrides } = await guardsOfLot(database, account.id, lot);
    return {
      messages: messages.map((message) => ({
        ...message,
        guards: guards.filter(({ members }) => holds(members, message.id)).map(({ guard }) => guard),
        allowed: holds(overrides, message.id),
      })),
      ...more,
    };
  },
});

function holds(ranges: Ranges, id: number): boolean {
  return ranges.some(([first, last]) => id >= first && id <= last);
}
