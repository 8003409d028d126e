import * as v from 'valibot';
import * as s from '../../contract/schemas';
import { amountOfFiles, pageOfFiles } from '../../store/archive/file-list';
import { isIndexComplete } from '../../store/index/folders';
import { readyCriteria } from '../criteria';
import { cursorFrom, cursorText } from '../cursor';
import { route } from '../route';

export const listFiles = route({
  method: 'GET',
  path: '/accounts/{account}/files',
  summary:
    'Lists files of messages that match criteria, a page at a time, with the sum over all of them. `size`, `kind` and `file` mean the file here.',
  query: v.object({
    where: s.Where,
    scope: s.Scope,
    order: v.optional(v.picklist(['size', 'date', 'name', 'from']), 'size'),
    direction: v.optional(v.picklist(['up', 'down'])),
    limit: v.optional(s.wholeNumber(1, 1_000), '100'),
    after: v.optional(v.string()),
  }),
  response: v.object({
    total: s.FileAmount,
    files: v.array(s.File),
    complete: s.Complete,
    next: v.optional(v.string()),
  }),
  async handle({ environment: { database }, account, query }) {
    const criteria = await readyCriteria(database, account, query.where);
    const now = new Date();
    const descends = query.order === 'size' || query.order === 'date';
    const [total, { files, next }, complete] = await Promise.all([
      amountOfFiles(database, account, criteria, query.scope, now),
      pageOfFiles(database, account, criteria, query.scope, now, {
        order: query.order,
        direction: query.direction ?? (descends ? 'down' : 'up'),
        limit: query.limit,
        after: cursorFrom(query.after),
      }),
      isIndexComplete(database, account.id),
    ]);
    return { total, files, complete, ...(next ? { next: cursorText(next) } : {}) };
  },
});
