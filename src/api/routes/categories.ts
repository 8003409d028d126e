import * as v from 'valibot';
import * as s from '../../contract/schemas';
import { CATEGORIES } from '../../core/categories/categories';
import { fold } from '../../core/text';
import { transaction } from '../../store/database';
import { tell } from '../../store/events';
import { correct, correctionsOf } from '../../store/index/categories';
import { isIndexComplete } from '../../store/index/folders';
import { amountsByCategory } from '../../store/index/messages';
import { route } from '../route';

export const listCategories = route({
  method: 'GET',
  path: '/accounts/{account}/categories',
  summary: 'Returns what each category holds outside the trash, and the corrections that people made.',
  response: v.object({
    categories: v.array(v.object({ category: s.Category, ...s.Amount.entries })),
    corrections: v.array(s.Correction),
    complete: s.Complete,
  }),
  async handle({ environment: { database }, account }) {
    return {
      categories: await amountsByCategory(database, account),
      corrections: await correctionsOf(database, account.id),
      complete: await isIndexComplete(database, account.id),
    };
  },
});

export const correctCategory = route({
  method: 'POST',
  path: '/accounts/{account}/categories',
  summary: `Sets the category for every message from a sender or domain: one of ${CATEGORIES.join(', ')}. Null removes the correction.`,
  body: v.object({
    by: s.CorrectionBy,
    key: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(320)),
    category: v.nullable(s.Category),
  }),
  status: 204,
  async handle({ environment, account, body }) {
    await transaction(environment.database, async (client) => {
      await correct(client, account, { ...body, key: fold(body.key) });
      await tell(client, account.id, 'index', {});
    });
  },
});
