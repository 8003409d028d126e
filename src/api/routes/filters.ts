import * as v from 'valibot';
import * as s from '../../contract/schemas';
import { printCriteria } from '../../core/criteria/print';
import { transaction } from '../../store/database';
import * as store from '../../store/index/saved-filters';
import { criteriaFrom } from '../criteria';
import { notFound } from '../problem';
import { route } from '../route';

export const listFilters = route({
  method: 'GET',
  path: '/accounts/{account}/filters',
  summary: 'Lists the saved filters, oldest first.',
  response: v.object({ filters: v.array(s.SavedFilter) }),
  handle: async ({ environment, account }) => ({ filters: await store.savedFilters(environment.database, account.id) }),
});

export const saveFilter = route({
  method: 'POST',
  path: '/accounts/{account}/filters',
  summary: 'Saves criteria under a name. A name that exists gets the new criteria.',
  body: v.object({ name: s.Label, where: v.pipe(v.string(), v.maxLength(10_000)) }),
  status: 201,
  response: s.SavedFilter,
  handle: async ({ environment, account, body }) => {
    const where = printCriteria(criteriaFrom(body.where));
    return transaction(environment.database, (client) =>
      store.saveFilter(client, account.id, { name: body.name, where }),
    );
  },
});

export const deleteFilter = route({
  method: 'DELETE',
  path: '/accounts/{account}/filters/{filter}',
  summary: 'Deletes a saved filter.',
  status: 204,
  async handle({ environment, account, parameters }) {
    if (!(await store.deleteFilter(environment.database, account.id, Number(parameters.filter)))) throw notFound();
  },
});
