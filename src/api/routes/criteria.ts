import * as v from 'valibot';
import { printCriteria } from '../../core/criteria/print';
import { printSequenceSet, rangesOf } from '../../core/sets/ranges';
import { transaction } from '../../store/database';
import { forgetCriteria, keepCriteria, keptCriteria } from '../../store/kept';
import { matchingIds } from '../../store/messages';
import { type Search, searchById } from '../../store/searches';
import { askFor, criteriaFrom, readyCriteria } from '../criteria';
import { notFound } from '../problem';
import { route } from '../route';
import * as s from '../schemas';

export const listMatches = route({
  method: 'GET',
  path: '/accounts/{account}/matches',
  summary: 'The ids of all messages that match, as a sequence-set such as `1:3,7`; scope is all.',
  query: v.object({ where: s.Where }),
  response: v.object({ ids: v.string() }),
  async handle({ environment: { database }, account, query }) {
    const criteria = await readyCriteria(database, account, query.where);
    return { ids: printSequenceSet(rangesOf(await matchingIds(database, account, criteria, 'all', new Date()))) };
  },
});

const shownSearch = ({ problem, ...search }: Search) => ({ ...search, ...(problem ? { problem } : {}) });

export const startSearch = route({
  method: 'POST',
  path: '/accounts/{account}/searches',
  summary: 'Has the mail server asked for a text, folder by folder (202); 200 where all is known already.',
  body: v.object({ text: v.pipe(v.string(), v.minLength(1), v.maxLength(1_000)) }),
  status: 202,
  response: s.Search,
  async handle({ environment, account, body }) {
    const { search, isNew } = await askFor(environment.database, account.id, body.text);
    return new Response(JSON.stringify(shownSearch(search)), {
      status: isNew ? 202 : 200,
      headers: { 'content-type': 'application/json' },
    });
  },
});

export const showSearch = route({
  method: 'GET',
  path: '/accounts/{account}/searches/{search}',
  summary: 'A search of the mail server and how far it is.',
  response: s.Search,
  async handle({ environment, account, parameters }) {
    const search = await searchById(environment.database, account.id, Number(parameters.search));
    if (!search) throw notFound();
    return shownSearch(search);
  },
});

export const listKept = route({
  method: 'GET',
  path: '/accounts/{account}/criteria',
  summary: 'The criteria that were named and kept, oldest first.',
  response: v.object({ criteria: v.array(s.KeptCriteria) }),
  handle: async ({ environment, account }) => ({ criteria: await keptCriteria(environment.database, account.id) }),
});

export const keep = route({
  method: 'POST',
  path: '/accounts/{account}/criteria',
  summary: 'Keeps criteria under a name; a name that is there gets the new ones.',
  body: v.object({ name: s.Label, where: v.pipe(v.string(), v.maxLength(10_000)) }),
  status: 201,
  response: s.KeptCriteria,
  handle: async ({ environment, account, body }) => {
    const where = printCriteria(criteriaFrom(body.where));
    return transaction(environment.database, (client) => keepCriteria(client, account.id, { name: body.name, where }));
  },
});

export const forget = route({
  method: 'DELETE',
  path: '/accounts/{account}/criteria/{criteria}',
  summary: 'Forgets kept criteria.',
  status: 204,
  async handle({ environment, account, parameters }) {
    if (!(await forgetCriteria(environment.database, account.id, Number(parameters.criteria)))) throw notFound();
  },
});
