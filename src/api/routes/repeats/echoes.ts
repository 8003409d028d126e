import * as v from 'valibot';
import * as s from '../../../contract/schemas';
import { type EchoFound, echoesOf } from '../../../store/plan/echoes';
import { twinsOf } from '../../../store/plan/twins';
import { cursorFrom, cursorText } from '../../cursor';
import { route } from '../../route';
import { marked } from './marked';
import { goingOf } from './summary';
import { toldMessages } from './told';

export const listEchoes = route({
  method: 'GET',
  path: '/accounts/{account}/repeats/echoes',
  summary:
    'Lists messages that a later one of their thread quotes in full, and whose files lie there too: those first from which most is won, with the message that holds each.',
  query: v.object({ limit: v.optional(s.wholeNumber(1, 500), '100'), after: v.optional(v.string()) }),
  response: v.object({ echoes: v.array(s.Echo), next: v.optional(v.string()) }),
  async handle({ environment: { database }, account, query }) {
    const after = cursorFrom(query.after);
    const found = (await echoesOf(database, account, goingOf(await twinsOf(database, account))))
      .filter(({ state }) => state !== 'stays')
      .sort(byGain);
    const from = after ? Number(after.value) : 0;
    const page = found.slice(from, from + query.limit);
    const next = from + page.length;
    const messages = await toldMessages(
      database,
      account.id,
      page.flatMap(({ id, holder }) => (holder === undefined ? [id] : [id, holder])),
    );
    const told = (id: number | undefined) => {
      const message = id === undefined ? undefined : messages.get(id);
      if (!message) return undefined;
      const { message: _, ...rest } = message;
      return rest;
    };
    return {
      echoes: page.flatMap(({ id, size, state, holder }) => {
        const message = told(id);
        const held = told(holder);
        return message ? [{ ...message, size, state, ...(held ? { holder: held } : {}) }] : [];
      }),
      ...(next < found.length ? { next: cursorText({ value: `${next}`, id: 0 }) } : {}),
    };
  },
});

/** What can go stands before what is protected. */
function byGain(one: EchoFound, other: EchoFound): number {
  return Number(other.state === 'goes') - Number(one.state === 'goes') || other.size - one.size || one.id - other.id;
}

export const createEchoLot = route({
  method: 'POST',
  path: '/accounts/{account}/repeats/echoes/lots',
  summary:
    'Creates a lot of messages that a later one quotes in full: of all, of some (`ids`), or of all but some (`except`). It promises that for each a message stays that holds it.',
  body: v.object({
    ids: v.optional(s.Ids),
    except: v.optional(s.Ids, []),
    label: v.optional(s.Label),
    fate: v.optional(v.picklist(['trash', 'archive']), 'trash'),
    expect: v.optional(s.Amount),
  }),
  status: 201,
  response: s.Lot,
  async handle({ environment: { database }, account, body }) {
    const expected = body.expect && { number: body.expect.messages, bytes: body.expect.bytes };
    return marked(database, account, expected, 'ids', async (client) => {
      const wanted = body.ids && new Set(body.ids);
      const excepted = new Set(body.except);
      const found = (await echoesOf(client, account, goingOf(await twinsOf(client, account)))).filter(
        ({ id, state }) => state === 'goes' && (!wanted || wanted.has(id)) && !excepted.has(id),
      );
      return {
        ids: found.map(({ id }) => id),
        bytes: found.reduce((sum, { size }) => sum + size, 0),
        label: body.label ?? 'messages quoted in full',
        fate: body.fate,
        promise: 'echoes',
      };
    });
  },
});
