import * as v from 'valibot';
import type { Amount } from '../../core/level/level';
import type { MailServer } from '../../mail/server';
import { type Account, isUnsettled, saveSettings, versionOf } from '../../store/accounts';
import { judgementOf } from '../../store/categories';
import { transaction } from '../../store/database';
import { tell } from '../../store/events';
import { chooseRoles, foldersOf } from '../../store/folders';
import { enqueue } from '../../store/jobs';
import { amountOf, idsBySubject, messageById, messagesById, pageOfMessages } from '../../store/messages';
import { lastScan, openScan, type Scan, scanById } from '../../store/scans';
import { admitAttempt } from '../attempts';
import { readyCriteria } from '../criteria';
import { cursorFrom, cursorText } from '../cursor';
import type { Environment } from '../environment';
import { shownLevel } from '../level';
import { onServer } from '../on-server';
import { conflict, invalid, notFound } from '../problem';
import { route } from '../route';
import * as s from '../schemas';
import { waitsOf } from '../waits';

export const showSettings = route({
  method: 'GET',
  path: '/accounts/{account}/settings',
  summary: 'The settings of an account.',
  response: s.Settings,
  handle: async ({ environment, account }) => ({ ...account.settings, canMail: environment.canMail }),
});

export const changeSettings = route({
  method: 'PATCH',
  path: '/accounts/{account}/settings',
  summary: 'Changes the settings that are given; the others stay.',
  body: s.SettingsChange,
  response: s.Settings,
  async handle({ environment, account, body }) {
    const { database } = environment;
    const folders = await foldersOf(database, account.id);
    const named = Object.entries(body.roles ?? {}).map(([role, path]) => [`roles.${role}`, path] as const);
    for (const [field, wanted] of [['trashFolder', body.trashFolder] as const, ...named])
      if (wanted && !folders.some(({ path, repeats }) => path === wanted && !repeats))
        throw invalid('There is no such folder.', [{ field, expected: 'the path of a folder' }]);
    const changes = Object.fromEntries(Object.entries(body).filter(([, value]) => value !== undefined));
    await transaction(database, async (client) => {
      await saveSettings(client, account.id, changes);
      if (body.roles) {
        await chooseRoles(client, account.id, body.roles);
        if (await isUnsettled(client, account.id)) {
          const { scan } = await openScan(client, account.id);
          await enqueue(client, account.id, 'scan', scan.id);
        }
      }
      await tell(client, account.id, 'level', {});
    });
    return { ...account.settings, ...changes, canMail: environment.canMail };
  },
});

function shownScan({ problem, endedAt, outline, attempts: _, ...scan }: Scan) {
  return { ...scan, ...(problem ? { problem } : {}), ...(endedAt ? { endedAt } : {}), ...(outline ? { outline } : {}) };
}

export const startScan = route({
  method: 'POST',
  path: '/accounts/{account}/scans',
  summary: 'Starts a scan (202), or gives the one that is running (200).',
  status: 202,
  response: s.Scan,
  async handle({ environment, account }) {
    await admitAttempt(environment.database, [
      { name: `scan of ${account.id}`, most: environment.caps.scansAnHour, seconds: 3_600 },
    ]);
    const { scan, isNew } = await transaction(environment.database, async (client) => {
      const opened = await openScan(client, account.id);
      await enqueue(client, account.id, 'scan', opened.scan.id);
      return opened;
    });
    return new Response(JSON.stringify(shownScan(scan)), {
      status: isNew ? 202 : 200,
      headers: { 'content-type': 'application/json' },
    });
  },
});

export const showScan = route({
  method: 'GET',
  path: '/accounts/{account}/scans/{scan}',
  summary: 'A scan and how far it is; `last` is the newest.',
  response: s.Scan,
  async handle({ environment, account, parameters }) {
    const { database } = environment;
    const scan =
      parameters.scan === 'last'
        ? await lastScan(database, account.id)
        : await scanById(database, account.id, Number(parameters.scan));
    if (!scan) throw notFound();
    return { ...shownScan(scan), ...(await waitsOf(database, account.id, 'scan', scan)) };
  },
});

export const showLevel = route({
  method: 'GET',
  path: '/accounts/{account}/level',
  summary: 'How full the account is, and where.',
  response: s.Level,
  handle: ({ environment, account }) => shownLevel(environment.database, account),
});

export const listMessages = route({
  method: 'GET',
  path: '/accounts/{account}/messages',
  summary: 'The messages that match, a page at a time, and the sum of all of them; or those with these ids.',
  query: v.object({
    where: s.Where,
    scope: s.Scope,
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
    next: v.optional(v.string()),
  }),
  async handle({ environment, account, query }) {
    const { database } = environment;
    const version = await versionOf(database, account.id);
    if (query.ids !== undefined) {
      const messages = await messagesById(database, account, query.ids.split(',').map(Number));
      return { total: amountIn(messages), messages, version };
    }
    const criteria = await readyCriteria(database, account, query.where);
    const now = new Date();
    const descends = query.order === 'size' || query.order === 'date' || query.order === 'placed';
    const page = {
      order: query.order,
      direction: query.direction ?? (descends ? 'down' : 'up'),
      limit: query.limit,
      after: cursorFrom(query.after),
    } as const;
    const placedBefore = query.before === undefined ? undefined : new Date(query.before);
    const [total, { messages, next }] = await Promise.all([
      amountOf(database, account, criteria, query.scope, now, placedBefore),
      pageOfMessages(database, account, criteria, query.scope, now, { ...page, placedBefore }),
    ]);
    return { total, messages, version, ...(next ? { next: cursorText(next) } : {}) };
  },
});

function amountIn(messages: readonly { size: number }[]): Amount {
  return { messages: messages.length, bytes: messages.reduce((sum, { size }) => sum + size, 0) };
}

export const listOrder = route({
  method: 'GET',
  path: '/accounts/{account}/order',
  summary: 'The ids of all messages in the order of their subjects, which the columns do not carry.',
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
  const answer = await onServer(environment, account, 'The mail server did not give it', async (server) => {
    const open = await server.open(message.serverName);
    if (open.uidValidity !== message.uidValidity)
      throw conflict('changed', 'The folder has changed on the server. Scan again.');
    return ask(server, message.uid);
  });
  return { message, answer };
}

export const showMessage = route({
  method: 'GET',
  path: '/accounts/{account}/messages/{message}',
  summary: 'All that is known of a message, with its header as it stands on the server.',
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

export const showText = route({
  method: 'GET',
  path: '/accounts/{account}/messages/{message}/text',
  summary: 'The text of a message as text, read from the server now. Nothing remote is fetched.',
  async handle({ environment, account, parameters }) {
    const { answer } = await atServer(environment, account, parameters.message ?? '', (server, uid) =>
      server.text(uid),
    );
    return new Response(answer, { headers: { 'content-type': 'text/plain; charset=utf-8' } });
  },
});
