import * as v from 'valibot';
import * as clock from '../../../clock/clock';
import * as h from '../../../contract/host';
import { Amount } from '../../../contract/schemas';
import { printCriteria } from '../../../core/criteria/print';
import { isBeingTried, isOpenState, ROUND_STATES, type RoundState } from '../../../core/host/round';
import { amountOf, carryOutRound, stopRound } from '../../../jobs/host/rounds/decide';
import { countAccounts } from '../../../store/access/accounts';
import { isProven, noteProof } from '../../../store/access/proofs';
import { type Queryable, transaction } from '../../../store/database';
import { wake } from '../../../store/events';
import type { Operator } from '../../../store/host/operators';
import {
  accountsOfRounds,
  createRound,
  mailboxesOfRound,
  type Round,
  type RoundMailbox,
  type RoundSums,
  roundById,
  roundsOf,
  summedRound,
} from '../../../store/host/rounds';
import { criteriaFrom } from '../../criteria';
import { conflict, notFound, Problem } from '../../problem';
import { GOOD_FOR_MINUTES } from '../../proof';
import { type RequestContext, route } from '../../route';
import { passwordNeeded, tryPassword } from './mailboxes';

/** Rounds that are listed at most. */
const MAX_ROUNDS = 200;

function shownRound({ operator: _, state, states, ...round }: Round & RoundSums) {
  const some = (is: (each: RoundState) => boolean) => ROUND_STATES.some((each) => states[each] && is(each));
  return {
    ...round,
    states,
    state:
      state === 'stopped'
        ? state
        : state === 'trying'
          ? some(isBeingTried)
            ? ('trying' as const)
            : some((each) => each === 'ready')
              ? ('asking' as const)
              : ('ended' as const)
          : some(isOpenState)
            ? ('working' as const)
            : ('ended' as const),
  };
}

function shownMailbox({ mailbox, user, state, messages, bytes, tried, done, problem }: RoundMailbox) {
  return { mailbox, user, state, messages, bytes, tried, done, problem };
}

async function shownWhole(db: Queryable, operator: Operator, id: number) {
  const round = await summedRound(db, operator.id, id);
  if (!round) throw notFound();
  const mailboxes = await mailboxesOfRound(db, operator.id, id);
  return { round: shownRound(round), mailboxes: mailboxes.map(shownMailbox) };
}

const WholeRound = v.object({ round: h.Round, mailboxes: v.array(h.RoundMailbox) });

export const listRounds = route({
  method: 'GET',
  path: '/operators/{operator}/rounds',
  session: true,
  summary: 'Lists rounds, the newest first: one decision for several mailboxes, and what came of it.',
  response: v.object({ rounds: v.array(h.Round) }),
  handle: async ({ environment: { database }, operator }) => ({
    rounds: (await roundsOf(database, operator.id, MAX_ROUNDS)).map(shownRound),
  }),
});

export const getRound = route({
  method: 'GET',
  path: '/operators/{operator}/rounds/{round}',
  session: true,
  summary: 'Returns a round with each of its mailboxes: what would go, or went, and what was in the way.',
  response: WholeRound,
  handle: ({ environment: { database }, operator, parameters }) =>
    shownWhole(database, operator, Number(parameters.round)),
});

export const makeRound = route({
  method: 'POST',
  path: '/operators/{operator}/rounds',
  session: true,
  summary:
    'Begins a round through several mailboxes. Each is opened for the reason given, which goes into its ledger, and scanned; then it is found out what would go. Nothing is moved or deleted before `carry-out`. A mailbox that is in another open round is left out.',
  body: h.NewRound,
  status: 201,
  response: WholeRound,
  async handle({ environment, operator, body }) {
    const { database, limits } = environment;
    if (operator.state === 'locked') throw passwordNeeded();
    const { reason, mailboxes } = body;
    const terms =
      body.kind === 'standing'
        ? { ...body, terms: { ...body.terms, where: printCriteria(criteriaFrom(body.terms.where)) } }
        : body;
    return transaction(database, async (client) => {
      const { id, mailboxes: made } = await createRound(
        client,
        operator.id,
        { ...terms, reason },
        mailboxes,
        clock.now(),
      );
      if (made === 0)
        throw conflict('nothing-to-do', 'Each of these mailboxes is in another round, or not in your list any more.');
      await wantRoomForAccounts(client, operator, made, limits);
      await wake(client);
      return shownWhole(client, operator, id);
    });
  },
});

/** @throws Problem where a round would make more accounts than it may. */
async function wantRoomForAccounts(
  db: Queryable,
  operator: Operator,
  more: number,
  limits: RequestContext['environment']['limits'],
): Promise<void> {
  if ((await accountsOfRounds(db, operator.id)) + more > limits.accountsOfRounds)
    throw new Problem(
      429,
      'too-many-mailboxes',
      'Too many mailboxes',
      `Your rounds can go through ${limits.accountsOfRounds} mailboxes here. Choose fewer.`,
    );
  if ((await countAccounts(db)) + more > limits.accounts)
    throw new Problem(
      503,
      'no-room-for-accounts',
      'No room for accounts',
      'This instance has as many mailboxes as its operator allows.',
    );
}

export const carryOut = route({
  method: 'POST',
  path: '/operators/{operator}/rounds/{round}/carry-out',
  session: true,
  summary:
    'Carries a round out, in all mailboxes that are ready or in those of `mailboxes`. `expect` must be what they would lose together by the trial. The others are left. Deleting much asks for the operator’s `password` again.',
  body: v.object({
    mailboxes: v.optional(v.pipe(v.array(v.pipe(v.number(), v.integer())), v.minLength(1), v.maxLength(100_000))),
    expect: Amount,
    password: v.optional(v.pipe(v.string(), v.minLength(1), v.maxLength(1_000))),
  }),
  response: WholeRound,
  async handle(context) {
    const { environment, operator, parameters, body } = context;
    const { database } = environment;
    if (operator.state === 'locked') throw passwordNeeded();
    const id = Number(parameters.round);
    if (body.password !== undefined) await provePassword(context, operator, body.password);
    return transaction(database, async (client) => {
      const round = await roundById(client, operator.id, id, { lock: true });
      if (!round) throw notFound();
      if (round.state !== 'trying') throw conflict('wrong-state', `Round ${id} was decided before.`);
      const mailboxes = await mailboxesOfRound(client, operator.id, id, { lock: true });
      if (mailboxes.some(({ state }) => isBeingTried(state)))
        throw conflict('not-tried', 'Some mailboxes are not tried yet. Wait until all are.');
      const ready = mailboxes.filter(({ state }) => state === 'ready');
      const chosen = new Set(body.mailboxes ?? ready.map(({ mailbox }) => mailbox));
      const going = ready.filter(({ mailbox }) => chosen.has(mailbox));
      const found = amountOf(going);
      if (going.length === 0) throw conflict('nothing-to-do', 'None of these mailboxes is ready.');
      if (body.expect.messages !== found.messages || body.expect.bytes !== found.bytes)
        throw conflict(
          'not-as-expected',
          `By the trial these mailboxes would lose ${found.messages} messages of ${found.bytes} octets, not ${body.expect.messages} of ${body.expect.bytes}.`,
        );
      if (round.kind === 'standing' && !operator.daily)
        throw conflict(
          'password-not-kept',
          'Standing lots go by themselves, so Tamsel needs your password while you are signed out. Turn on “Measure every day” first.',
        );
      if (round.kind !== 'standing' && found.messages > environment.limits.purgedUnasked)
        await wantOperatorProof(context, client, operator);
      await carryOutRound(client, round, ready, chosen, clock.now());
      await wake(client);
      return shownWhole(client, operator, id);
    });
  },
});

/** @throws Problem 403 where a session was not shown lately to be the operator's. */
async function wantOperatorProof({ identity }: RequestContext, client: Queryable, operator: Operator): Promise<void> {
  const session = identity?.sessionHash;
  if (session && (await isProven(client, session, 'operator', operator.id, GOOD_FOR_MINUTES))) return;
  throw new Problem(403, 'prove-again', 'Show that it is you', 'Enter your password again, then continue.', [
    { field: 'password', expected: 'the password of the operator' },
  ]);
}

/** Tries the operator's password at the mailbox with which they signed in. @throws Problem where the host does not take it. */
async function provePassword(context: RequestContext, operator: Operator, password: string): Promise<void> {
  const { host, port, security, proof, user } = operator;
  const signInAs = proof === user ? undefined : user;
  await tryPassword(context, { host, port, security, user: proof }, password, signInAs);
  const session = context.identity?.sessionHash;
  if (session) await noteProof(context.environment.database, session, 'operator', operator.id);
}

export const stop = route({
  method: 'POST',
  path: '/operators/{operator}/rounds/{round}/stop',
  session: true,
  summary:
    'Stops a round: mailboxes that were not begun are left, runs under way are cancelled after their batch, and its standing lots do nothing more.',
  response: WholeRound,
  async handle({ environment: { database }, operator, parameters }) {
    const id = Number(parameters.round);
    return transaction(database, async (client) => {
      const round = await roundById(client, operator.id, id, { lock: true });
      if (!round) throw notFound();
      if (round.state === 'stopped') throw conflict('wrong-state', `Round ${id} was stopped before.`);
      await stopRound(client, round, clock.now());
      return shownWhole(client, operator, id);
    });
  },
});
