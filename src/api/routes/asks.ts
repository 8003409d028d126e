import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import { wayToAsk } from '../../core/unsubscribe/way-to-ask';
import { YEAR_MS } from '../../jobs/unsubscribe/read-ways';
import type { Account } from '../../store/access/accounts';
import { type Queryable, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { type BulkSender, bulkSenders, cameSince } from '../../store/index/bulk-senders';
import { enqueue, isOpen } from '../../store/jobs';
import { type Ask, asksOf, lockAsks, queueAsks } from '../../store/plan/asks';
import { conflict, invalid } from '../problem';
import { route } from '../route';

/** Senders that may be asked at once. */
const MOST_ASKED = 500;

const State = v.object({
  senders: v.array(s.BulkSender),
  /** Whether newest messages are still to be read, or are being read. */
  unread: v.pipe(v.number(), v.integer(), v.minValue(0)),
  reading: v.boolean(),
});

function shownSender(
  { newest: _, ...sender }: BulkSender,
  ask: Ask | undefined,
  since: { messages: number; last: Date } | undefined,
) {
  if (!ask) return sender;
  const { ways, state, how, askedAt, problem } = ask;
  const { way, why } = wayToAsk(ways, ask.authenticity, ask.inJunk);
  const [page] = ways.pages;
  return {
    ...sender,
    way,
    ...(why ? { why } : {}),
    ...(page && why !== 'in-junk' && why !== 'failed-authentication' ? { page } : {}),
    ...(way === 'mail' && ways.mail ? { mail: ways.mail } : {}),
    ...(state ? { state } : {}),
    ...(how ? { how } : {}),
    ...(askedAt ? { askedAt, since: since ?? { messages: 0 } } : {}),
    ...(problem ? { problem } : {}),
  };
}

async function stateOf(db: Queryable, account: Account) {
  const [senders, asks] = await Promise.all([
    bulkSenders(db, account, new Date(clock.now().getTime() - YEAR_MS)),
    asksOf(db, account.id),
  ]);
  const known = new Map(asks.map((ask) => [ask.sender, ask]));
  const asked = asks.flatMap(({ sender, askedAt }) => (askedAt ? [{ sender, at: askedAt }] : []));
  const came = await cameSince(db, account.id, asked);
  // Who has stopped for a year is told too: it was asked.
  const gone = asks
    .filter(({ sender, askedAt }) => askedAt && !senders.some((one) => one.sender === sender))
    .map(({ sender, placement, readAt }) => ({
      sender,
      name: '',
      messages: 0,
      bytes: 0,
      last: readAt,
      newest: placement,
    }));
  return {
    senders: [...senders, ...gone].map((one) => shownSender(one, known.get(one.sender), came.get(one.sender))),
    unread: senders.filter(({ sender, newest }) => known.get(sender)?.placement !== newest).length,
    reading: await isOpen(db, account.id, 'read-ways', 0),
  };
}

export const listBulkSenders = route({
  method: 'GET',
  path: '/accounts/{account}/bulk-senders',
  summary:
    'Lists senders of the last year whose messages say how one stops getting them, those with the most octets first: what they sent, how each can be asked to stop, and what came since it was asked.',
  response: State,
  handle: ({ environment: { database }, account }) => stateOf(database, account),
});

export const readWays = route({
  method: 'POST',
  path: '/accounts/{account}/bulk-senders/read',
  summary:
    'Has the newest message of each such sender read, where it was not: how one leaves it, and whether that is the sender’s own word. Nothing is sent to anybody.',
  status: 202,
  response: State,
  async handle({ environment: { database }, account }) {
    const state = await stateOf(database, account);
    if (state.unread > 0) await enqueue(database, account.id, 'read-ways', 0);
    return { ...state, reading: state.reading || state.unread > 0 };
  },
});

export const askToStop = route({
  method: 'POST',
  path: '/accounts/{account}/bulk-senders/ask',
  summary:
    'Asks senders to stop, each once: by one click (RFC 8058) where its message allows that and its signature covers it, else by the mail that it names (RFC 2369), sent as the user. `expect` is the number of senders. What lies in Junk, or is not known to be from whom it says, is never asked.',
  body: v.object({
    senders: v.pipe(v.array(v.pipe(v.string(), v.maxLength(320))), v.minLength(1), v.maxLength(MOST_ASKED)),
    expect: v.pipe(v.number(), v.integer(), v.minValue(1)),
  }),
  status: 202,
  response: State,
  async handle({ environment: { database, log }, account, body }) {
    const wanted = new Set(body.senders);
    await transaction(database, async (client) => {
      await lockAsks(client, account.id);
      const asks = (await asksOf(client, account.id)).filter(({ sender }) => wanted.has(sender));
      const askable = asks.flatMap(({ sender, ways, authenticity, inJunk }) => {
        const { way } = wayToAsk(ways, authenticity, inJunk);
        return way === 'one-click' || way === 'mail' ? [{ sender, how: way }] : [];
      });
      const refused = [...wanted].filter((sender) => !askable.some((ask) => ask.sender === sender));
      if (refused.length > 0)
        throw invalid(`Tamsel can’t ask ${refused[0]}. Read its newest message first, or leave it out.`, [
          { field: 'senders', expected: 'senders whose way is one-click or mail' },
        ]);
      if (askable.some(({ how }) => how === 'mail') && !account.user.includes('@'))
        throw conflict(
          'no-own-address',
          'You signed in with a name that is no mail address, so Tamsel can’t send mail as you. Open the pages by hand.',
        );
      const queued = await queueAsks(client, account.id, askable);
      if (queued !== body.expect)
        throw conflict('not-as-expected', `This would ask ${queued} senders, not ${body.expect}. Check again.`);
      await enqueue(client, account.id, 'ask-to-stop', 0);
      await tell(client, account.id, 'level', {});
    });
    log.info({ account: account.id, senders: wanted.size }, 'senders are asked to stop');
    return stateOf(database, account);
  },
});
