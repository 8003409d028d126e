import { promisify } from 'node:util';
import { gzip } from 'node:zlib';
import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import { filesToArrow, withKeptFiles } from '../../core/columns/file-columns';
import { readFileColumns } from '../../store/archive/file-columns';
import { amountOfFiles, pageOfFiles } from '../../store/archive/file-list';
import { isIndexComplete } from '../../store/index/folders';
import { keptFiles } from '../../store/space/contents';
import { readyCriteria } from '../criteria';
import { cursorFrom, cursorText } from '../cursor';
import { route } from '../route';
import { HowSmaller, SmallerPicture, shownSmaller } from '../smaller-picture';

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
    const now = clock.now();
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

const compress = promisify(gzip);

/** Speed counts here, as for the columns of messages. */
const LEVEL = 4;

export const getFileColumns = route({
  method: 'GET',
  path: '/accounts/{account}/files/columns',
  summary:
    'Returns all files of the index, each once, as an Arrow IPC stream. `placement` is the id of its message; it is 0 of files in file spaces, whose ids are negative.',
  formats: ['application/vnd.apache.arrow.stream'],
  async handle({ environment: { database }, account }) {
    const [files, kept] = [await readFileColumns(database, account), await keptFiles(database, account.id)];
    const body = await compress(filesToArrow(withKeptFiles(files, kept)), { level: LEVEL });
    return new Response(new Uint8Array(body), {
      headers: {
        'content-type': 'application/vnd.apache.arrow.stream',
        'content-encoding': 'gzip',
        'cache-control': 'private, no-store',
      },
    });
  },
});

export const getFilePreview = route({
  method: 'GET',
  path: '/accounts/{account}/files/{file}/preview',
  summary:
    'Returns a picture of a picture, encoded anew: `small` for lists, `large` for a screen. What can’t be shown is the problem `no-preview`, with the reason.',
  query: v.object({ size: v.optional(v.picklist(['small', 'large']), 'small') }),
  formats: ['image/webp'],
  async handle({ environment, account, parameters, query, request }) {
    const { previews } = environment;
    const made = await previews.see(environment, account, Number(parameters.file), query.size, request.signal);
    return new Response(made.kind === 'picture' ? new Uint8Array(made.octets) : null, {
      headers: { 'content-type': 'image/webp', 'cache-control': 'private, no-store' },
    });
  },
});

export const getSmallerPicture = route({
  method: 'GET',
  path: '/accounts/{account}/files/{file}/smaller',
  summary:
    'Returns a picture as a run for `shrink` would make it, with its octets before and after. A picture that can’t be made smaller is the problem `no-preview`, with the reason.',
  query: HowSmaller,
  response: SmallerPicture,
  async handle({ environment, account, parameters, query, request }) {
    const id = Number(parameters.file);
    return shownSmaller(await environment.previews.shrink(environment, account, id, query, request.signal));
  },
});

export const getFileWords = route({
  method: 'GET',
  path: '/accounts/{account}/files/{file}/words',
  summary:
    'Returns the first words of a document as plain text. What has none, or can’t be read, is the problem `no-preview`, with the reason.',
  formats: ['text/plain'],
  async handle({ environment, account, parameters, request }) {
    const made = await environment.previews.see(environment, account, Number(parameters.file), 'words', request.signal);
    return new Response(made.kind === 'words' ? made.text : '', {
      headers: { 'content-type': 'text/plain; charset=utf-8' },
    });
  },
});
