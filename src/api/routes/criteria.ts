import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import { printSequenceSet, rangesOf } from '../../core/sets/ranges';
import { isIndexComplete } from '../../store/index/folders';
import { matchingIds } from '../../store/index/messages';
import { type Search, searchById } from '../../store/index/searches';
import { askFor, readyCriteria } from '../criteria';
import { notFound } from '../problem';
import { route } from '../route';

export const listMatches = route({
  method: 'GET',
  path: '/accounts/{account}/matches',
  summary: 'Returns the ids of all messages that match, trash included, as a sequence set (RFC 9051) such as `1:3,7`.',
  query: v.object({ where: s.Where }),
  response: v.object({ ids: v.string(), complete: s.Complete }),
  async handle({ environment: { database }, account, query }) {
    const criteria = await readyCriteria(database, account, query.where);
    const ids = await matchingIds(database, account, criteria, 'all', clock.now());
    return { ids: printSequenceSet(rangesOf(ids)), complete: await isIndexComplete(database, account.id) };
  },
});

const shownSearch = ({ problem, ...search }: Search) => ({ ...search, ...(problem ? { problem } : {}) });

export const startSearch = route({
  method: 'POST',
  path: '/accounts/{account}/searches',
  summary: 'Starts a search for a text on the mail server, folder by folder.',
  body: v.object({ text: v.pipe(v.string(), v.minLength(1), v.maxLength(1_000)) }),
  status: 202,
  response: s.Search,
  also: { 200: { description: 'All folders have been asked already.', response: s.Search } },
  async handle({ environment, account, body }) {
    const { search, isNew } = await askFor(environment.database, account.id, body.text);
    return new Response(JSON.stringify(shownSearch(search)), {
      status: isNew ? 202 : 200,
      headers: { 'content-type': 'application/json' },
    });
  },
});

export const getSearch = route({
  method: 'GET',
  path: '/accounts/{account}/searches/{search}',
  summary: 'Returns a search and its progress.',
  response: s.Search,
  async handle({ environment, account, parameters }) {
    const search = await searchById(environment.database, account.id, Number(parameters.search));
    if (!search) throw notFound();
    return shownSearch(search);
  },
});
