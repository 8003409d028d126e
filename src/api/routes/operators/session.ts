import * as v from 'valibot';
import * as clock from '../../../clock/clock';
import * as h from '../../../contract/host';
import { connectImap } from '../../../mail/imap/connect';
import { createSession, renewSession } from '../../../store/access/sessions';
import { transaction } from '../../../store/database';
import { measureFailed } from '../../../store/host/measurements';
import {
  addOperatorToSession,
  changeDaily,
  eraseOperator,
  findOrCreateOperator,
  leaveOperator as leave,
  type Operator,
  operatorById,
  saveOperatorPassword,
} from '../../../store/host/operators';
import { sessionCookie } from '../../cookie';
import { networkOf } from '../../network';
import { noSession } from '../../problem';
import { route } from '../../route';
import { shownOperator } from '../../shown';
import { admitSignIn, forgiveSignIn, normalised, normalisedUser, signInProblem } from '../../sign-in';

export const signInAsOperator = route({
  method: 'POST',
  path: '/operators',
  session: true,
  summary:
    'Signs in as an operator of a mail host, who looks after mailboxes of others. The server is asked: by the operator’s own mailbox, or by `mailbox`, which the operator opens with an authorization identity (RFC 4616). No mail is read.',
  body: h.OperatorSignIn,
  status: 201,
  response: v.object({ operator: h.Operator }),
  async handle(context) {
    const { environment, identity, request, body } = context;
    const { database, vault, outbound, sessionLife: life } = environment;
    const { password, daily, mailbox, ...asked } = body;
    const place = normalised(asked);
    const proof = normalisedUser(mailbox ?? '') || place.user;
    const signInAs = proof === place.user ? undefined : place.user;
    await admitSignIn(context, { ...place, user: proof }, signInAs);
    try {
      const server = await connectImap({ ...place, user: proof, password, signInAs }, outbound);
      await server.close();
    } catch (error) {
      throw signInProblem(error);
    }
    await forgiveSignIn(context, { ...place, user: proof }, signInAs);
    const { operator, token } = await transaction(database, async (client) => {
      const found = await findOrCreateOperator(client, { ...place, proof });
      await saveOperatorPassword(client, vault, found, password);
      await measureFailed(client, found.id, clock.now());
      if (daily !== undefined) await changeDaily(client, found.id, daily);
      const before = identity?.sessionHash;
      const agent = request.headers.get('user-agent') ?? '';
      const made = before ? await renewSession(client, before, life, agent) : await createSession(client, life, agent);
      await addOperatorToSession(client, made, found.id);
      return { operator: (await operatorById(client, found.id)) as Operator, token: made };
    });
    const from = networkOf(context.clientAddress);
    environment.log.info(
      { operator: operator.id, user: operator.user, host: operator.host, from },
      'an operator signed in',
    );
    const headers = { 'content-type': 'application/json', 'set-cookie': sessionCookie(environment, token) };
    return new Response(JSON.stringify({ operator: shownOperator(operator) }), { status: 201, headers });
  },
});

export const listOperators = route({
  method: 'GET',
  path: '/operators',
  session: true,
  summary: 'Lists the operators of the session.',
  response: v.object({ operators: v.array(h.Operator) }),
  async handle({ identity }) {
    if (!identity) throw noSession();
    return { operators: identity.operators.map(shownOperator) };
  },
});

export const changeOperator = route({
  method: 'PATCH',
  path: '/operators/{operator}',
  session: true,
  summary:
    'With `daily`, the mailboxes are measured each day, also after you sign out; for this the passwords are kept sealed.',
  body: v.object({ daily: v.boolean() }),
  response: h.Operator,
  async handle({ environment: { database }, operator, body }) {
    await changeDaily(database, operator.id, body.daily);
    return shownOperator({ ...operator, daily: body.daily });
  },
});

export const leaveOperator = route({
  method: 'DELETE',
  path: '/session/operators/{operator}',
  session: true,
  summary: 'Signs out an operator. Mailboxes that were opened stay open until you sign out of them.',
  status: 204,
  async handle({ environment: { database }, operator, identity }) {
    await transaction(database, (client) => leave(client, identity?.sessionHash as Buffer, operator.id));
  },
});

export const deleteOperator = route({
  method: 'DELETE',
  path: '/operators/{operator}',
  session: true,
  summary:
    'Deletes the operator’s list of mailboxes with all measurements. The mailboxes, their accounts and their ledgers are not touched.',
  status: 204,
  async handle({ environment: { database }, operator }) {
    await transaction(database, (client) => eraseOperator(client, operator.id));
  },
});
