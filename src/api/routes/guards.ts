import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import { printCriteria } from '../../core/criteria/print';
import { parseGuardCriteria } from '../../core/guards/guards';
import type { Account } from '../../store/access/accounts';
import { type Database, type Queryable, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { type Guard, guardedNow, guardsOf } from '../../store/index/guarded';
import { createGuard, dropGuard, guardById, guardsChanged, liftHold, switchGuard } from '../../store/plan/guards';
import { parsedOrProblem } from '../criteria';
import { conflict, invalid, notFound } from '../problem';
import { route } from '../route';

async function shownGuards(db: Queryable, account: Account) {
  const { sets, total } = await guardedNow(db, account, clock.now());
  const guards = (await guardsOf(db, account.id)).map((guard) => {
    const { messages, bytes } = sets.find((set) => set.guard === guard.id) ?? { messages: 0, bytes: 0 };
    return { ...guard, messages, bytes };
  });
  return { guards, total };
}

async function shownGuard(db: Queryable, account: Account, id: number) {
  const found = (await shownGuards(db, account)).guards.find((guard) => guard.id === id);
  if (!found) throw notFound();
  return found;
}

/** Changes a guard, has the lots of the plan looked at again, and tells of it. */
async function changing(database: Database, account: Account, act: (client: Queryable) => Promise<void>) {
  await transaction(database, async (client) => {
    await act(client);
    await guardsChanged(client, account);
    await tell(client, account.id, 'level', {});
    await tell(client, account.id, 'index', {});
  });
}

async function theGuard(database: Database, account: Account, id: string | undefined): Promise<Guard> {
  const guard = await guardById(database, account.id, Number(id));
  if (!guard) throw notFound();
  return guard;
}

export const listGuards = route({
  method: 'GET',
  path: '/accounts/{account}/guards',
  summary: 'Lists the guards, what each protects now, and what they protect together. Lifted holds stay on record.',
  response: v.object({ guards: v.array(s.Guard), total: s.Amount }),
  handle: ({ environment, account }) => shownGuards(environment.database, account),
});

export const makeGuard = route({
  method: 'POST',
  path: '/accounts/{account}/guards',
  summary:
    'Creates a guard: it keeps mail that matches the criteria out of every lot. With `years` it is a hold. A hold needs a `reason`, and ends so many years after a message was received, or when somebody lifts it.',
  body: v.object({
    where: v.optional(v.pipe(v.string(), v.maxLength(10_000)), ''),
    years: v.optional(v.nullable(v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(100))), null),
    reason: v.optional(v.pipe(v.string(), v.trim(), v.maxLength(500)), ''),
  }),
  status: 201,
  response: s.Guard,
  async handle({ environment: { database }, account, body: { where, years, reason } }) {
    const criteria = parsedOrProblem(parseGuardCriteria(where));
    if (years === null && criteria.kind === 'everything')
      throw invalid('This guard would protect the whole mailbox.', [{ field: 'where', expected: 'criteria' }]);
    if (years !== null && reason === '')
      throw invalid('A hold needs a reason.', [{ field: 'reason', expected: 'the reason of the hold' }]);
    let id = 0;
    await changing(database, account, async (client) => {
      const kind = years === null ? 'criteria' : 'hold';
      id = await createGuard(client, account.id, { kind, where: printCriteria(criteria), years, reason });
    });
    return shownGuard(database, account, id);
  },
});

export const changeGuard = route({
  method: 'PATCH',
  path: '/accounts/{account}/guards/{guard}',
  summary: 'Switches a guard off or on. A hold can’t be switched off, only lifted.',
  body: v.object({ active: v.boolean() }),
  response: s.Guard,
  async handle({ environment: { database }, account, parameters, body }) {
    const guard = await theGuard(database, account, parameters.guard);
    if (guard.kind === 'hold') throw conflict('hold', 'A hold can’t be switched off. Lift it, and say why.');
    await changing(database, account, (client) => switchGuard(client, account.id, guard.id, body.active));
    return shownGuard(database, account, guard.id);
  },
});

export const deleteGuard = route({
  method: 'DELETE',
  path: '/accounts/{account}/guards/{guard}',
  summary: 'Removes a guard that somebody added. Built-in guards can only be switched off.',
  status: 204,
  async handle({ environment: { database }, account, parameters }) {
    const guard = await theGuard(database, account, parameters.guard);
    if (guard.kind === 'hold') throw conflict('hold', 'A hold can’t be removed. Lift it, and say why.');
    if (guard.kind !== 'criteria') throw conflict('built-in', 'This guard can be switched off, not removed.');
    await changing(database, account, (client) => dropGuard(client, account.id, guard.id));
  },
});

export const liftGuard = route({
  method: 'POST',
  path: '/accounts/{account}/guards/{guard}/lift',
  summary: 'Lifts a hold for good. It stays on record with the reason.',
  body: v.object({ reason: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(500)) }),
  response: s.Guard,
  async handle({ environment: { database }, account, parameters, body }) {
    const guard = await theGuard(database, account, parameters.guard);
    if (guard.kind !== 'hold') throw conflict('no-hold', 'Only a hold can be lifted.');
    if (guard.liftedAt) throw conflict('lifted', 'This hold has been lifted already.');
    await changing(database, account, (client) => liftHold(client, account.id, guard.id, body.reason));
    return shownGuard(database, account, guard.id);
  },
});
