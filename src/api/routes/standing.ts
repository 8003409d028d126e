import { isDeepStrictEqual } from 'node:util';
import * as v from 'valibot';
import { now } from '../../clock/clock';
import * as s from '../../contract/schemas';
import { printCriteria } from '../../core/criteria/print';
import { STANDING_FATES } from '../../core/standing/terms';
import { ceilingOf } from '../../core/standing/trial';
import { nextOf } from '../../jobs/standing';
import type { Account } from '../../store/access/accounts';
import { type Database, type Queryable, transaction } from '../../store/database';
import { tell, wake } from '../../store/events';
import {
  createStanding,
  datesOf,
  datesSince,
  deleteStanding,
  type StandingDate,
  type StandingLot,
  standingById,
  standingLots,
  updateStanding,
} from '../../store/plan/standing';
import { tryOnPast } from '../../store/plan/standing-trial';
import { readyCriteria } from '../criteria';
import { conflict, notFound } from '../problem';
import { route } from '../route';

/** Standing lots that an account may have. */
const MOST = 100;
/** Dates of each that are shown. */
const DATES = 12;
/** A trial that is older tells too little of what would go now. */
const TRIED_WITHIN_MS = 86_400_000;

function shownDate({
  standing: _,
  scan: __,
  bag: ___,
  ceiling,
  lot,
  run,
  purge,
  problem,
  endedAt,
  ...date
}: StandingDate) {
  return {
    ...date,
    ...(ceiling === null ? {} : { ceiling }),
    ...(lot === null ? {} : { lot }),
    ...(run === null ? {} : { run }),
    ...(purge === null ? {} : { purge }),
    ...(problem ? { problem } : {}),
    ...(endedAt ? { endedAt } : {}),
  };
}

async function shown(db: Queryable, account: number, lot: StandingLot, dates: readonly StandingDate[]) {
  const { trial, triedAt, nextOn, nextAt, startedAt: _, ...rest } = lot;
  const isOn = lot.state === 'on';
  const isFirst = (await datesSince(db, account, lot)) === 0;
  return {
    ...rest,
    ...(trial && triedAt ? { trial, triedAt, ceiling: ceilingOf(trial, lot.rhythm, lot.most, isFirst) } : {}),
    ...(isOn && nextOn && nextAt ? { nextOn, nextAt } : {}),
    dates: dates.filter(({ standing }) => standing === lot.id).map(shownDate),
  };
}

async function shownById(db: Queryable, account: number, id: number) {
  const lot = await standingById(db, account, id);
  if (!lot) throw notFound();
  return shown(db, account, lot, await datesOf(db, account, DATES));
}

const Days = v.pipe(v.number(), v.integer(), v.minValue(0), v.maxValue(3_650));
const Number31 = v.pipe(v.number(), v.integer(), v.minValue(0), v.maxValue(2 ** 31 - 1));

const Terms = v.object({
  label: s.Label,
  where: v.pipe(v.string(), v.maxLength(10_000)),
  fate: v.optional(v.picklist(STANDING_FATES), 'trash'),
  rhythm: s.Rhythm,
  /** Takes it more messages than this at one date, it asks first. */
  most: v.optional(v.nullable(Number31), null),
  /** What it brought to the trash is purged after so many days; null: never by itself. */
  purgeAfterDays: v.optional(v.nullable(Days), null),
  /** Whether a mail tells what it did. It goes to the address in the settings. */
  mail: v.optional(v.boolean(), false),
});

export const listStandingLots = route({
  method: 'GET',
  path: '/accounts/{account}/standing-lots',
  summary: 'Lists standing lots: what goes by itself, what it was tried on, and what became of its newest dates.',
  response: v.object({ standingLots: v.array(s.StandingLot) }),
  async handle({ environment: { database }, account }) {
    const [lots, dates] = await Promise.all([standingLots(database, account.id), datesOf(database, account.id, DATES)]);
    return { standingLots: await Promise.all(lots.map((lot) => shown(database, account.id, lot, dates))) };
  },
});

/** Tries a standing lot on the past, and writes down what came of it. */
async function tried(database: Database, account: Account, id: number, lot: Pick<StandingLot, 'where' | 'fate'>) {
  const criteria = await readyCriteria(database, account, lot.where);
  const at = now();
  const trial = await tryOnPast(database, account, criteria, lot.fate, at);
  await updateStanding(database, account.id, id, { trial, triedAt: at });
}

export const makeStandingLot = route({
  method: 'POST',
  path: '/accounts/{account}/standing-lots',
  summary:
    'Creates a standing lot, and tries it on the past. It does not go by itself before it is started. The order is: create, look at the trial, start.',
  body: Terms,
  status: 201,
  response: s.StandingLot,
  async handle({ environment: { database }, account, body }) {
    const where = printCriteria(await readyCriteria(database, account, body.where));
    const id = await transaction(database, async (client) => {
      if ((await standingLots(client, account.id)).length >= MOST)
        throw conflict('too-many', `An account has at most ${MOST} standing lots. Delete one that is not needed.`);
      return createStanding(client, account.id, { ...body, where });
    });
    await tried(database, account, id, { where, fate: body.fate });
    await tell(database, account.id, 'level', {});
    return shownById(database, account.id, id);
  },
});

export const changeStandingLot = route({
  method: 'PATCH',
  path: '/accounts/{account}/standing-lots/{standing}',
  summary: 'Changes a standing lot. With other criteria, another fate or another rhythm it has to be started again.',
  body: v.partial(Terms),
  response: s.StandingLot,
  async handle({ environment: { database }, account, parameters, body }) {
    const id = Number(parameters.standing);
    const where =
      body.where === undefined ? undefined : printCriteria(await readyCriteria(database, account, body.where));
    const isOther = await transaction(database, async (client) => {
      const old = await standingById(client, account.id, id, { lock: true });
      if (!old) throw notFound();
      const other =
        (where !== undefined && where !== old.where) ||
        (body.fate !== undefined && body.fate !== old.fate) ||
        (body.rhythm !== undefined && !isDeepStrictEqual(body.rhythm, old.rhythm));
      await updateStanding(client, account.id, id, {
        ...body,
        ...(where === undefined ? {} : { where }),
        ...(other ? { state: 'draft', trial: null, triedAt: null } : {}),
      });
      return other;
    });
    const lot = await standingById(database, account.id, id);
    if (isOther && lot) await tried(database, account, id, lot);
    await tell(database, account.id, 'level', {});
    return shownById(database, account.id, id);
  },
});

export const tryStandingLot = route({
  method: 'POST',
  path: '/accounts/{account}/standing-lots/{standing}/try',
  summary: 'Tries a standing lot on the past anew. Nothing in the mailbox changes.',
  response: s.StandingLot,
  async handle({ environment: { database }, account, parameters }) {
    const id = Number(parameters.standing);
    const lot = await standingById(database, account.id, id);
    if (!lot) throw notFound();
    await tried(database, account, id, lot);
    return shownById(database, account.id, id);
  },
});

export const startStandingLot = route({
  method: 'POST',
  path: '/accounts/{account}/standing-lots/{standing}/start',
  summary:
    'Lets a standing lot go by itself, from its next date on. It must have been tried within a day, and `expect` must be what it would take now by that trial.',
  body: v.object({ expect: s.Amount }),
  response: s.StandingLot,
  async handle({ environment: { database }, account, parameters, body: { expect } }) {
    return transaction(database, async (client) => {
      const id = Number(parameters.standing);
      const lot = await standingById(client, account.id, id, { lock: true });
      if (!lot) throw notFound();
      const at = now();
      if (!lot.trial || !lot.triedAt || at.getTime() - lot.triedAt.getTime() > TRIED_WITHIN_MS)
        throw conflict('not-tried', 'Try it on the past first, and look at what it would have taken.');
      const { messages, bytes } = lot.trial.now;
      if (expect.messages !== messages || expect.bytes !== bytes)
        throw conflict(
          'not-as-expected',
          `By its trial it would take ${messages} messages of ${bytes} octets now, not ${expect.messages} of ${expect.bytes}.`,
        );
      await updateStanding(client, account.id, id, {
        state: 'on',
        failures: 0,
        startedAt: at,
        ...nextOf({ rhythm: lot.rhythm, nextOn: null }, account.settings.timeZone, at),
      });
      await tell(client, account.id, 'level', {});
      await wake(client);
      return shownById(client, account.id, id);
    });
  },
});

export const stopStandingLot = route({
  method: 'POST',
  path: '/accounts/{account}/standing-lots/{standing}/stop',
  summary:
    'Stops a standing lot: it takes and purges nothing more by itself. A run that has begun goes on; pause or cancel it by itself.',
  response: s.StandingLot,
  async handle({ environment: { database }, account, parameters }) {
    return transaction(database, async (client) => {
      const id = Number(parameters.standing);
      const lot = await standingById(client, account.id, id, { lock: true });
      if (!lot) throw notFound();
      if (lot.state !== 'draft') await updateStanding(client, account.id, id, { state: 'off' });
      await tell(client, account.id, 'level', {});
      return shownById(client, account.id, id);
    });
  },
});

export const deleteStandingLot = route({
  method: 'DELETE',
  path: '/accounts/{account}/standing-lots/{standing}',
  summary: 'Deletes a standing lot. What it did stays in the ledger.',
  status: 204,
  async handle({ environment: { database }, account, parameters }) {
    await transaction(database, async (client) => {
      const id = Number(parameters.standing);
      if (!(await standingById(client, account.id, id, { lock: true }))) throw notFound();
      await deleteStanding(client, account.id, id);
      await tell(client, account.id, 'level', {});
    });
    return undefined;
  },
});
