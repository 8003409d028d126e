import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import type { Amount } from '../../core/level/level';
import type { MailServer } from '../../mail/server';
import { type Account, versionOf } from '../../store/access/accounts';
import { type ArchiveOrder, archivedAmount, archivedPage } from '../../store/archive/archived';
import { judgementOf } from '../../store/index/categories';
import { isIndexComplete } from '../../store/index/folders';
import { amountOf, idsBySubject, messageById, messagesById, pageOfMessages } from '../../store/index/messages';
import { searchArchive } from '../archive-search';
import { readyCriteria } from '../criteria';
import { cursorFrom, cursorText } from '../cursor';
import type { Environment } from '../environment';
import { onServer } from '../on-server';
import { conflict, invalid, notFound } from '../problem';
import { route } from '../route';
import { NOT_IN_MAILBOX } from './archive';

export const listMessages = route({
  method: 'GET',
  path: '/accounts/{account}/messages',
  summary:
    'Lists messages that match criteria, a page at a time, with the sum over all of them. Or returns messages by id. `scope=archive` lists messages of the archive, as they were when they were saved.',
  query: v.object({
    where: s.Where,
    scope: v.optional(v.picklist(['mail', 'trash', 'all', 'archive']), 'mail'),
    order: v.optional(v.picklist(['size', 'date', 'from', 'subject', 'placed']), 'size'),
    direction: v.optional(v.picklist(['up', 'down'])),
    limit: v.optional(s.wholeNumber(1, 1_000), '100'),
    after: v.optional(v.string()),
    /** Only what came into its folder before this instant. */
    before: v.optional(s.Timestamp),
    ids: v.optional(v.pipe(v.string(), v.regex(/^\d{1,15}(,\d{1,15}){0,499}$/, 'up to 500 ids, parted by commas'))),
  }),
  response: v.object({
    total: s.Amount,
    messages: v.array(s.Message),
    /** Of the index: `asOf` of a run that is to touch what was shown and nothing later. */
    version: v.number(),
    complete: s.Complete,
    next: v.optional(v.string()),
  }),
  async handle({ environment, account, query }) {
    const { database } = environment;
    if (query.scope === 'archive') return listArchived(environment, account, query);
    const { scope } = query;
    const version = await versionOf(database, account.id);
    const complete = await isIndexComplete(database, account.id);
    if (query.ids !== undefined) {
      const messages = await messagesById(database, account, query.ids.split(',').map(Number));
      return { total: amountIn(messages), messages, version, complete };
    }
    const criteria = await readyCriteria(database, account, query.where);
    const now = clock.now();
    const descends = query.order === 'size' || query.order === 'date' || query.order === 'placed';
    const page = {
      order: query.order,
      direction: query.direction ?? (descends ? 'down' : 'up'),
      limit: query.limit,
      after: cursorFrom(query.after),
    } as const;
    const placedBefore = query.before === undefined ? undefined : new Date(query.before);
    const [total, { messages, next }] = await Promise.all([
      amountOf(database, account, criteria, scope, now, placedBefore),
      pageOfMessages(database, account, criteria, scope, now, { ...page, placedBefore }),
    ]);
    return { total, messages, version, complete, ...(next ? { next: cursorText(next) } : {}) };
  },
});

async function listArchived(
  environment: Environment,
  account: Account,
  query: {
    where: string;
    order: ArchiveOrder | 'placed';
    direction?: 'up' | 'down' | undefined;
    limit: number;
    ids?: string | undefined;
    after?: string | undefined;
    before?: string | undefined;
  },
) {
  const { database } = environment;
  const { order, limit } = query;
  if (order === 'placed' || query.before !== undefined || query.ids !== undefined)
    throw invalid('The archive is listed by date, size, from or subject.', [
      { field: 'scope', expected: 'where, order, direction, limit and after beside it' },
    ]);
  // What is in the archive stays in its place, so that a page is found by how many are before it.
  const first = Number(query.after ?? '0');
  if (!Number.isSafeInteger(first) || first < 0)
    throw invalid('This is no place in the list.', [{ field: 'after', expected: 'next of the page before' }]);
  const { selection, complete } = await searchArchive(
    environment,
    account,
    query.where,
    order === 'from' || order === 'subject',
  );
  const direction = query.direction ?? (order === 'size' || order === 'date' ? 'down' : 'up');
  const [total, messages] = await Promise.all([
    archivedAmount(database, selection),
    archivedPage(database, selection, { order, direction, limit, first }),
  ]);
  const shown = messages.map(({ message: _, ...one }) => ({ ...one, ...NOT_IN_MAILBOX }));
  const next = first + shown.length;
  return {
    ...{ total, messages: shown, version: await versionOf(database, account.id), complete },
    ...(shown.length > 0 && next < total.messages ? { next: `${next}` } : {}),
  };
}

function amountIn(messages: readonly { size: number }[]): Amount {
  return { messages: messages.length, bytes: messages.reduce((sum, { size }) => sum + size, 0) };
}

export const listSubjectOrder = route({
  method: 'GET',
  path: '/accounts/{account}/order',
  summary: 'Lists the ids of all messages in the order of their subjects.',
  query: v.object({ scope: s.Scope }),
  response: v.object({ ids: v.array(v.number()) }),
  handle: async ({ environment, account, query }) => ({
    ids: await idsBySubject(environment.database, account, query.scope),
  }),
});

/** Opens the folder of a message on the server and asks something of it there. */
async function atServer<T>(
  environment: Environment,
  account: Account,
  id: string,
  ask: (server: MailServer, uid: number) => Promise<T>,
) {
  const message = await messageById(environment.database, account.id, Number(id));
  if (!message) throw notFound();
  const answer = await onServer(environment, account, 'The mail server did not return the message', async (server) => {
    const open = await server.open(message.serverName);
    if (open.uidValidity !== message.uidValidity)
      throw conflict('changed', 'The folder has changed on the server. Scan again.');
    return ask(server, message.uid);
  });
  return { message, answer };
}

export const getMessage = route({
  method: 'GET',
  path: '/accounts/{account}/messages/{message}',
  summary: 'Returns all that Tamsel knows about a message, and its header from the server.',
  response: s.MessageDetails,
  async handle({ environment, account, parameters }) {
    const { message, answer } = await atServer(environment, account, parameters.message ?? '', (server, uid) =>
      server.header(uid),
    );
    const { serverName: _, uidValidity: __, ...shown } = message;
    const judgement = await judgementOf(environment.database, account, message.id);
    return { ...shown, reasons: judgement?.reasons ?? [], header: answer };
  },
});

export const getMessageText = route({
  method: 'GET',
  path: '/accounts/{account}/messages/{message}/text',
  summary: 'Returns the text of a message as plain text, read from the server. Nothing remote is loaded.',
  formats: ['text/plain'],
  async handle({ environment, account, parameters }) {
    const { answer } = await atServer(environment, account, parameters.message ?? '', (server, uid) =>
      server.text(uid),
    );
    return new Response(answer, { headers: { 'content-type': 'text/plain; charset=utf-8' } });
  },
});
