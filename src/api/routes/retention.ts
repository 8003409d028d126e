import * as v from 'valibot';
import * as s from '../../contract/schemas';
import type { Account } from '../../store/access/accounts';
import { beginRetention, endRetention, keptByRetention, retentionOf } from '../../store/archive/retention';
import { type Queryable, transaction } from '../../store/database';
import { wake } from '../../store/events';
import { notFound } from '../problem';
import { route } from '../route';

async function shown(db: Queryable, account: Account) {
  const [found, kept] = await Promise.all([retentionOf(db, account.id), keptByRetention(db, account.id)]);
  if (!found) return { retention: null, kept };
  const { problem, lastAt, ...retention } = found;
  return { retention: { ...retention, ...(lastAt ? { lastAt } : {}), ...(problem ? { problem } : {}) }, kept };
}

export const getRetention = route({
  method: 'GET',
  path: '/accounts/{account}/retention',
  summary:
    'Returns whether every message of the last years is saved under a hold every night, when that was last done, and what is kept so.',
  response: s.RetentionState,
  handle: ({ environment: { database }, account }) => shown(database, account),
});

export const startRetention = route({
  method: 'POST',
  path: '/accounts/{account}/retention',
  summary:
    'Has every message of the last `years` years saved into a bag that is held for as many years, at once and again every night for what is new. Nothing in the mailbox is deleted. What is held can’t be deleted through Tamsel before its day; whoever runs the machine can still destroy what is on its disk.',
  body: v.object({
    years: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(100)),
    reason: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(500)),
  }),
  response: s.RetentionState,
  async handle({ environment: { database }, account, body }) {
    return transaction(database, async (client) => {
      await beginRetention(client, account.id, body);
      await wake(client);
      return shown(client, account);
    });
  },
});

export const endRetentionExport = route({
  method: 'DELETE',
  path: '/accounts/{account}/retention',
  summary: 'Saves no more every night. What was saved stays held until its day.',
  response: s.RetentionState,
  async handle({ environment: { database }, account }) {
    return transaction(database, async (client) => {
      if (!(await retentionOf(client, account.id))) throw notFound();
      await endRetention(client, account.id);
      return shown(client, account);
    });
  },
});
