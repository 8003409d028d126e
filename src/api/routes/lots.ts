import * as v from 'valibot';
import { printCriteria } from '../../core/criteria/print';
import { transaction } from '../../store/database';
import { tell } from '../../store/events';
import { changeLot, createLot, dropLot, type Lot, lotsOf, planTotal } from '../../store/lots';
import { readyCriteria } from '../criteria';
import { conflict, invalid, notFound } from '../problem';
import { route } from '../route';
import * as s from '../schemas';

/** No guards exist yet, so they keep nothing out. */
const shownLot = (lot: Lot) => ({ ...lot, guarded: { messages: 0, bytes: 0 } });

export const makeLot = route({
  method: 'POST',
  path: '/accounts/{account}/lots',
  summary: 'Marks a set of messages for one fate and freezes it. `where` and `ids` exclude each other.',
  body: v.object({
    label: v.optional(s.Label),
    fate: v.optional(v.picklist(['trash', 'purge']), 'trash'),
    where: v.optional(v.pipe(v.string(), v.maxLength(10_000))),
    ids: v.optional(s.Ids),
    except: v.optional(s.Ids, []),
    expect: v.optional(s.Amount),
  }),
  status: 201,
  response: s.Lot,
  async handle({ environment, account, body }) {
    if ((body.where === undefined) === (body.ids === undefined)) {
      throw invalid('Say either where or ids.', [{ field: 'where', expected: 'exactly one of where and ids' }]);
    }
    const criteria =
      body.where === undefined ? undefined : await readyCriteria(environment.database, account, body.where);
    const text = criteria && printCriteria(criteria);
    const lot = await transaction(environment.database, async (client) => {
      const id = await createLot(client, account, {
        label: body.label ?? (text === undefined ? `${body.ids?.length ?? 0} chosen messages` : text || 'everything'),
        fate: body.fate,
        selector: criteria ? { where: criteria, text: text ?? '' } : { ids: body.ids ?? [] },
        except: body.except,
        scope: 'mail',
        now: new Date(),
      });
      const made = (await lotsOf(client, account.id)).find((one) => one.id === id) as Lot;
      // Thrown here, so that what was refused was never there.
      if (made.messages === 0)
        throw invalid('Nothing matches, so there is nothing to mark.', [
          { field: body.where === undefined ? 'ids' : 'where', expected: 'messages that are there' },
        ]);
      if (body.expect && (body.expect.messages !== made.messages || body.expect.bytes !== made.bytes))
        throw conflict(
          'not-as-expected',
          'The mailbox has changed meanwhile. Look at what matches now, and mark again.',
        );
      await tell(client, account.id, 'level', {});
      return made;
    });
    return shownLot(lot);
  },
});

export const listLots = route({
  method: 'GET',
  path: '/accounts/{account}/lots',
  summary: 'The plan: its lots in the order in which they count, and their union.',
  response: v.object({ lots: v.array(s.Lot), total: s.Amount }),
  async handle({ environment, account }) {
    const { database } = environment;
    return { lots: (await lotsOf(database, account.id)).map(shownLot), total: await planTotal(database, account.id) };
  },
});

export const alterLot = route({
  method: 'PATCH',
  path: '/accounts/{account}/lots/{lot}',
  summary: 'Changes the label or the exceptions of a lot; exceptions replace those before.',
  body: v.object({ label: v.optional(s.Label), except: v.optional(s.Ids) }),
  response: s.Lot,
  async handle({ environment, account, parameters, body }) {
    const { database } = environment;
    if (!(await changeLot(database, account.id, Number(parameters.lot), body))) throw notFound();
    await tell(database, account.id, 'level', {});
    return shownLot((await lotsOf(database, account.id)).find(({ id }) => id === Number(parameters.lot)) as Lot);
  },
});

export const removeLot = route({
  method: 'DELETE',
  path: '/accounts/{account}/lots/{lot}',
  summary: 'Drops a lot from the plan.',
  status: 204,
  async handle({ environment, account, parameters }) {
    if (!(await dropLot(environment.database, account.id, Number(parameters.lot)))) throw notFound();
    await tell(environment.database, account.id, 'level', {});
  },
});
