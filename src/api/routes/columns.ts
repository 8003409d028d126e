import { promisify } from 'node:util';
import { gzip } from 'node:zlib';
import * as v from 'valibot';
import { toArrow } from '../../core/columns/arrow';
import { type IndexState, indexState, readColumns } from '../../store/index/columns';
import { route } from '../route';

const compress = promisify(gzip);

/** Speed counts here: a higher level wins a tenth and takes twice as long. */
const LEVEL = 4;

/** Answers kept in this process, the newest state of an account each, so that a reload costs no query. */
const MAX_KEPT = 8;
const kept = new Map<number, { tag: string; body: Buffer }>();

const tagOf = ({ version, folders }: IndexState) => `${version}.${folders}`;

function versionIn(since: string | undefined, state: IndexState): number | undefined {
  const [version, folders] = since?.split('.') ?? [];
  // With other folders every path may be another, so there is no difference to give.
  return version !== undefined && /^\d{1,15}$/.test(version) && folders === state.folders ? Number(version) : undefined;
}

export const getColumns = route({
  method: 'GET',
  formats: ['application/vnd.apache.arrow.stream'],
  also: { 304: { description: 'The columns have not changed since `If-None-Match`.' } },
  path: '/accounts/{account}/columns',
  summary:
    'Returns the whole index, trash included, as an Arrow IPC stream. With `since`, the ETag of an earlier answer without its quotes, it returns only what changed.',
  query: v.object({ since: v.optional(v.pipe(v.string(), v.maxLength(60))) }),
  async handle({ environment: { database }, account, request, query }) {
    const known = await indexState(database, account);
    const asked = request.headers.get('if-none-match');
    if (query.since === undefined && asked === `"${tagOf(known)}"`)
      return new Response(null, { status: 304, headers: { etag: asked } });
    const since = versionIn(query.since, known);
    const ready = since === undefined ? kept.get(account.id) : undefined;
    if (ready && ready.tag === tagOf(known)) return answer(ready);
    const { state, columns, gone, trash, sent } = await readColumns(database, account, since);
    const tag = tagOf(state);
    const body = await compress(
      toArrow(columns, { version: tag, difference: since !== undefined, gone, trash, sent }),
      {
        level: LEVEL,
      },
    );
    if (since === undefined) keep(account.id, { tag, body });
    return answer({ tag, body });
  },
});

function keep(account: number, answer: { tag: string; body: Buffer }): void {
  kept.delete(account);
  kept.set(account, answer);
  for (const oldest of kept.keys()) {
    if (kept.size <= MAX_KEPT) break;
    kept.delete(oldest);
  }
}

/** Compressed always: every client that reads Arrow over HTTP reads gzip. */
function answer({ tag, body }: { tag: string; body: Buffer }): Response {
  return new Response(new Uint8Array(body), {
    headers: {
      'content-type': 'application/vnd.apache.arrow.stream',
      'content-encoding': 'gzip',
      etag: `"${tag}"`,
      'cache-control': 'private, no-cache',
    },
  });
}
