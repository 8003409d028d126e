import * as v from 'valibot';
import { GROUPINGS } from '../../core/senders/grouping';
import { GROUP_ORDERS } from '../../core/senders/ranking';
import { firstRanked } from '../../store/first-ranking';
import { newestOfSender, rankSenders } from '../../store/senders';
import { readyCriteria } from '../criteria';
import { invalid } from '../problem';
import { route } from '../route';
import * as s from '../schemas';

const By = v.optional(v.picklist(GROUPINGS), 'address');

export const listSenders = route({
  method: 'GET',
  path: '/accounts/{account}/senders',
  summary: 'Senders ranked under the criteria. Exact, whatever the size of the mailbox.',
  query: v.object({
    where: s.Where,
    scope: s.Scope,
    by: By,
    order: v.optional(v.picklist(GROUP_ORDERS), 'bytes'),
    limit: v.optional(s.wholeNumber(1, 1_000), '100'),
    after: v.optional(v.string()),
  }),
  response: v.object({ total: v.number(), senders: v.array(s.Sender), next: v.optional(v.string()) }),
  async handle({ environment, account, query }) {
    const offset = query.after === undefined ? 0 : Number(query.after);
    if (!Number.isSafeInteger(offset) || offset < 0)
      throw invalid('This is not a place in a list.', [{ field: 'after' }]);
    const senders = await rankSenders(
      environment.database,
      account,
      await readyCriteria(environment.database, account, query.where),
      query.scope,
      new Date(),
      { by: query.by, order: query.order },
    );
    const end = offset + query.limit;
    const total = senders.length;
    return { total, senders: senders.slice(offset, end), ...(end < total ? { next: `${end}` } : {}) };
  },
});

export const firstRanking = route({
  method: 'GET',
  path: '/accounts/{account}/first-ranking',
  summary: 'Senders by octets, the trash left out, from the outline of a scan that still reads details; else none.',
  query: v.object({
    by: v.optional(v.picklist(['address', 'domain']), 'domain'),
    limit: v.optional(s.wholeNumber(1, 1_000), '100'),
  }),
  response: v.object({
    senders: v.array(
      v.object({
        key: v.string(),
        name: v.string(),
        messages: v.number(),
        bytes: v.number(),
        unseen: v.number(),
        first: s.Timestamp,
        last: s.Timestamp,
      }),
    ),
  }),
  handle: async ({ environment, account, query }) => ({
    senders: await firstRanked(environment.database, account.id, query.by, query.limit),
  }),
});

const Newest = v.array(v.object({ id: v.number(), subject: v.string(), date: s.Timestamp, size: v.number() }));

export const newestByKey = route({
  method: 'GET',
  path: '/accounts/{account}/newest',
  summary: 'The five newest messages of a sender whose key no path can carry, such as none at all or `..`.',
  query: v.object({ by: By, key: v.pipe(v.string(), v.maxLength(1_000)) }),
  response: Newest,
  handle: async ({ environment, account, query }) => newestOfSender(environment.database, account, query.by, query.key),
});

export const newest = route({
  method: 'GET',
  path: '/accounts/{account}/senders/{key}/newest',
  summary: 'The five newest messages of a sender.',
  query: v.object({ by: By }),
  response: Newest,
  handle: async ({ environment, account, parameters, query }) =>
    newestOfSender(environment.database, account, query.by, parameters.key ?? ''),
});
