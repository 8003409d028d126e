import { randomBytes } from 'node:crypto';
import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import { accountById } from '../../store/access/accounts';
import { accountOfFeed, endFeed, feedOf, saveFeed } from '../../store/habit';
import { standingLots } from '../../store/plan/standing';
import { calendarOf } from '../calendar';
import { notFound } from '../problem';
import { route } from '../route';

export const getCalendar = route({
  method: 'GET',
  path: '/accounts/{account}/calendar',
  summary: 'Returns whether the account has a feed of the dates on which something runs by itself.',
  response: v.object({ madeAt: v.nullable(s.Timestamp) }),
  handle: async ({ environment: { database }, account }) => ({
    madeAt: (await feedOf(database, account.id))?.madeAt ?? null,
  }),
});

export const makeCalendar = route({
  method: 'POST',
  path: '/accounts/{account}/calendar',
  summary:
    'Creates a feed (iCalendar, RFC 5545) of the dates on which something runs by itself, and returns its path. Whoever knows it can read these dates and the names of standing lots, so it is shown once. An older path ends.',
  session: true,
  status: 201,
  response: v.object({ path: v.string() }),
  async handle({ environment: { database }, account }) {
    const secret = randomBytes(32).toString('base64url');
    await saveFeed(database, account.id, secret);
    return { path: `/api/calendars/${secret}` };
  },
});

export const deleteCalendar = route({
  method: 'DELETE',
  path: '/accounts/{account}/calendar',
  summary: 'Ends the feed: its path leads nowhere any more.',
  session: true,
  status: 204,
  async handle({ environment: { database }, account }) {
    await endFeed(database, account.id);
    return undefined;
  },
});

export const readCalendar = route({
  method: 'GET',
  path: '/calendars/{secret}',
  summary: 'Returns the feed as a calendar program reads it. The path is its only key.',
  formats: ['text/calendar'],
  async handle({ environment: { database }, parameters }) {
    const id = await accountOfFeed(database, parameters.secret ?? '');
    const account = id === undefined ? undefined : await accountById(database, id);
    if (!account) throw notFound();
    const text = calendarOf(account, await standingLots(database, account.id), clock.now());
    return new Response(text, {
      headers: {
        'content-type': 'text/calendar; charset=utf-8',
        'content-disposition': 'inline; filename="tamsel.ics"',
        'cache-control': 'private, max-age=3600',
      },
    });
  },
});
