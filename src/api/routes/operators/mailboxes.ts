import * as v from 'valibot';
import * as clock from '../../../clock/clock';
import * as h from '../../../contract/host';
import { fillsOf } from '../../../core/host/figures';
import { connectImap } from '../../../mail/imap/connect';
import { type Database, transaction } from '../../../store/database';
import {
  addMailboxes,
  changeMailbox,
  dropMailbox,
  type HostMailbox,
  mailboxById,
  mailboxesOf,
  placeKey,
  saveMailboxPassword,
} from '../../../store/host/mailboxes';
import { askToMeasure, measurementsOf } from '../../../store/host/measurements';
import { type Operator, operatorPassword } from '../../../store/host/operators';
import { shownMailboxes } from '../../host';
import { conflict, invalid, notFound, Problem } from '../../problem';
import { type RequestContext, route } from '../../route';
import { shownOperator } from '../../shown';
import { admitSignIn, forgiveSignIn, normalised, signInProblem } from '../../sign-in';

export const listHostMailboxes = route({
  method: 'GET',
  path: '/operators/{operator}/mailboxes',
  session: true,
  summary:
    'Lists the mailboxes that an operator looks after: how full each is by its last measurement, its growth, and what state it is in. `measuring` counts those that are being measured or wait for it.',
  response: h.HostMailboxes,
  async handle({ environment: { database }, operator, identity }) {
    const mailboxes = await shownMailboxes(database, operator, identity?.accounts ?? []);
    const measuring = mailboxes.filter((mailbox) => mailbox.measuring).length;
    return { operator: shownOperator(operator), mailboxes, measuring };
  },
});

/** The mailbox in a path. @throws Problem where the operator looks after no such one. */
export async function mailboxIn(
  database: Database,
  operator: Operator,
  parameters: Record<string, string>,
): Promise<HostMailbox> {
  const mailbox = await mailboxById(database, operator.id, Number(parameters.mailbox), clock.now());
  if (!mailbox) throw notFound();
  return mailbox;
}

/** Tries at its server whether a password of a mailbox, or the operator's, is good. @throws Problem where it is not. */
export async function tryPassword(
  context: RequestContext,
  place: { host: string; port: number; security: 'tls' | 'starttls' | 'none'; user: string },
  password: string,
  signInAs?: string,
): Promise<void> {
  await admitSignIn(context, place, signInAs);
  try {
    const server = await connectImap({ ...place, password, signInAs }, context.environment.outbound);
    await server.close();
  } catch (error) {
    throw signInProblem(error);
  }
  await forgiveSignIn(context, place, signInAs);
}

/** @throws Problem where an operator looks after as many mailboxes as they may. */
export async function wantRoom(context: RequestContext, operator: Operator, more: number): Promise<HostMailbox[]> {
  const { database, limits } = context.environment;
  const there = await mailboxesOf(database, operator.id, clock.now());
  if (there.length + more > limits.mailboxesOfOperator)
    throw new Problem(
      429,
      'too-many-mailboxes',
      'Too many mailboxes',
      `You can look after ${limits.mailboxesOfOperator} mailboxes here. Remove some first.`,
    );
  return there;
}

export const addHostMailbox = route({
  method: 'POST',
  path: '/operators/{operator}/mailboxes',
  session: true,
  summary:
    'Adds a mailbox to those that an operator looks after. Its server is asked first: with `password`, the mailbox’s own, or with the operator’s.',
  body: h.NewHostMailbox,
  status: 201,
  response: v.object({ id: v.number() }),
  async handle(context) {
    const { environment, operator, body } = context;
    const { database, vault } = environment;
    const { password, note } = body;
    const port = body.port ?? (body.host === undefined ? operator.port : 993);
    const place = normalised({
      user: body.user,
      host: body.host ?? operator.host,
      port,
      security: body.security ?? (body.host === undefined ? operator.security : 'tls'),
    });
    const isElsewhere = place.host !== operator.host || place.port !== operator.port;
    if (isElsewhere && password === undefined)
      throw invalid('A mailbox at another server needs its own password.', [{ field: 'password' }]);
    const there = await wantRoom(context, operator, 1);
    if (there.some((each) => placeKey(each) === placeKey(place)))
      throw conflict('mailbox-there', 'You look after this mailbox already.');
    if (password !== undefined) await tryPassword(context, place, password);
    else {
      const own = await operatorPassword(database, vault, operator);
      if (own === undefined) throw passwordNeeded();
      await tryPassword(context, place, own, place.user === operator.user ? undefined : operator.user);
    }
    return transaction(database, async (client) => {
      const [id] = await addMailboxes(
        client,
        operator.id,
        [{ ...place, bytes: null, messages: null, note }],
        clock.now(),
      );
      if (id === undefined) throw conflict('mailbox-there', 'You look after this mailbox already.');
      if (password !== undefined) await saveMailboxPassword(client, vault, operator.id, { id, ...place }, password);
      await askToMeasure(client, operator, clock.now(), [id]);
      return { id };
    });
  },
});

export const passwordNeeded = () =>
  conflict('operator-locked', 'The mail server no longer accepts your password. Sign in again as the operator.');

export const changeHostMailbox = route({
  method: 'PATCH',
  path: '/operators/{operator}/mailboxes/{mailbox}',
  session: true,
  summary:
    'Changes what is stated of a mailbox: limits for a server that reports none, its target, when its owner left, a note, or its own password, which the server is asked about first.',
  body: h.HostMailboxChange,
  status: 204,
  async handle(context) {
    const { environment, operator, parameters, body } = context;
    const { database, vault } = environment;
    const mailbox = await mailboxIn(database, operator, parameters);
    const { password, ...change } = body;
    if (password !== undefined) await tryPassword(context, mailbox, password);
    await transaction(database, async (client) => {
      await changeMailbox(client, operator.id, mailbox.id, change);
      if (password === undefined) return;
      await saveMailboxPassword(client, vault, operator.id, mailbox, password);
      await askToMeasure(client, operator, clock.now(), [mailbox.id]);
    });
  },
});

export const dropHostMailbox = route({
  method: 'DELETE',
  path: '/operators/{operator}/mailboxes/{mailbox}',
  session: true,
  summary:
    'Removes a mailbox from those that an operator looks after, with its measurements. The mailbox is not touched.',
  status: 204,
  async handle({ environment: { database }, operator, parameters }) {
    if (!(await dropMailbox(database, operator.id, Number(parameters.mailbox)))) throw notFound();
  },
});

export const measureHostMailboxes = route({
  method: 'POST',
  path: '/operators/{operator}/measurements',
  session: true,
  summary:
    'Has mailboxes measured again: quota and figures of folders, no mail. All of them without `mailboxes`. Only so many connections to a host are open at a time.',
  body: v.object({
    mailboxes: v.optional(v.pipe(v.array(v.pipe(v.number(), v.integer(), v.minValue(1))), v.maxLength(100_000))),
  }),
  status: 202,
  response: v.object({ asked: v.number() }),
  async handle({ environment: { database }, operator, body }) {
    if (operator.state === 'locked') throw passwordNeeded();
    return { asked: await askToMeasure(database, operator, clock.now(), body.mailboxes) };
  },
});

/** Days of measurements that are given at most: three years. */
const MAX_MEASUREMENTS = 1_100;

export const listMeasurements = route({
  method: 'GET',
  path: '/operators/{operator}/mailboxes/{mailbox}/measurements',
  session: true,
  summary: 'Lists how full a mailbox was, one measurement a day, the oldest first.',
  response: v.object({ measurements: v.array(h.HostMeasurement) }),
  async handle({ environment: { database }, operator, parameters }) {
    const mailbox = await mailboxIn(database, operator, parameters);
    const found = await measurementsOf(database, operator.id, mailbox.id, MAX_MEASUREMENTS);
    return {
      measurements: found.map((measured) => {
        const { bytes, messages } = fillsOf(measured, mailbox.stated);
        return { at: measured.at, bytes: bytes?.used ?? null, messages: messages.used, unseen: measured.inbox.unseen };
      }),
    };
  },
});
