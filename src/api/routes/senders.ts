import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import { GROUP_ORDERS } from '../../core/senders/ranking';
import { firstRanked } from '../../store/index/first-ranking';
import { isIndexComplete } from '../../store/index/folders';
import { newestOfSender, rankSenders } from '../../store/index/senders';
import { readyCriteria } from '../criteria';
import { invalid } from '../problem';
import { route } from '../route';

const By = v.optional(s.GroupedBy, 'address');

export const listSenders = route({
  method: 'GET',
  path: '/accounts/{account}/senders',
  summary: 'Ranks senders by the mail that matches the criteria. The figures are exact at any size of mailbox.',
  query: v.object({
    where: s.Where,
    scope: s.Scope,
    by: By,
    order: v.optional(v.picklist(GROUP_ORDERS), 'bytes'),
    limit: v.optional(s.wholeNumber(1, 1_000), '100'),
    after: v.optional(v.string()),
  }),
  response: v.object({
    total: v.number(),
    senders: v.array(s.Sender),
    complete: s.Complete,
    next: v.optional(v.string()),
  }),
  async handle({ environment, account, query }) {
    const offset = query.after === undefined ? 0 : Number(query.after);
    if (!Number.isSafeInteger(offset) || offset < 0)
      throw invalid('This is not a valid place in a list.', [{ field: 'after' }]);
    const senders = await rankSenders(
      environment.database,
      account,
      await readyCriteria(environment.database, account, query.where),
      query.scope,
      clock.now(),
      { by: query.by, order: query.order },
    );
    const end = offset + query.limit;
    const total = senders.length;
    const complete = await isIndexComplete(environment.database, account.id);
    return { total, senders: senders.slice(offset, end), complete, ...(end < total ? { next: `${end}` } : {}) };
  },
});

export const listFirstSenders = route({
  method: 'GET',
  path: '/accounts/{account}/first-ranking',
  summary:
    'Ranks senders by size during the first scan, before subjects and files are read. Otherwise the list is empty.',
  query: v.object({
    by: v.optional(v.picklist(['address', 'domain']), 'domain'),
    limit: v.optional(s.wholeNumber(1, 1_000), '100'),
  }),
  response: v.object({ senders: v.array(s.FirstRanked) }),
  handle: async ({ environment, account, query }) => ({
    senders: await firstRanked(environment.database, account.id, query.by, query.limit),
  }),
});

const Newest = v.array(s.NewestMessage);

export const listNewestByKey = route({
  method: 'GET',
  path: '/accounts/{account}/newest',
  summary:
    'Lists the five newest messages of a sender whose key can’t be part of a path, such as an empty one or `..`.',
  query: v.object({ by: By, key: v.pipe(v.string(), v.maxLength(1_000)) }),
  response: Newest,
  handle: async ({ environment, account, query }) => newestOfSender(environment.database, account, query.by, query.key),
});

export const listNewestOfSender = route({
  method: 'GET',
  path: '/accounts/{account}/senders/{key}/newest',
  summary: 'Lists the five newest messages of a sender.',
  query: v.object({ by: By }),
  response: Newest,
  handle: async ({ environment, account, parameters, query }) =>
    newestOfSender(environment.database, account, query.by, parameters.key ?? ''),
});
