import * as v from 'valibot';
import * as s from '../../contract/schemas';
import { makeToken, tokensOf, withdrawToken } from '../../store/access/tokens';
import { transaction } from '../../store/database';
import { invalid, notFound } from '../problem';
import { wantProof } from '../proof';
import { route } from '../route';

/** Days that a token may live at most. */
const MAX_DAYS = 366;
const DAY_MS = 86_400_000;

export const listTokens = route({
  method: 'GET',
  path: '/accounts/{account}/tokens',
  summary: 'Lists the active tokens. The token itself is shown only when it is created.',
  session: true,
  response: v.object({ tokens: v.array(s.Token) }),
  handle: async ({ environment, account }) => ({ tokens: await tokensOf(environment.database, account.id) }),
});

export const createToken = route({
  method: 'POST',
  path: '/accounts/{account}/tokens',
  summary: 'Creates a token for scripts, for this account and until a day. Send it as `Authorization: Bearer`.',
  session: true,
  status: 201,
  body: v.object({
    name: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(100)),
    acts: v.optional(v.boolean(), false),
    endsAt: v.pipe(v.string(), v.isoTimestamp()),
  }),
  response: v.object({ ...s.Token.entries, token: v.string() }),
  async handle({ environment, account, identity, body }) {
    if (body.acts) await wantProof(environment.database, environment, identity, account);
    const endsAt = new Date(body.endsAt);
    const days = (endsAt.getTime() - Date.now()) / DAY_MS;
    if (!(days > 0 && days <= MAX_DAYS))
      throw invalid('A token must expire within 366 days.', [{ field: 'endsAt', expected: 'a time within 366 days' }]);
    return transaction(environment.database, (client) => makeToken(client, account.id, { ...body, endsAt }));
  },
});

export const revokeToken = route({
  method: 'DELETE',
  path: '/accounts/{account}/tokens/{token}',
  summary: 'Revokes a token.',
  session: true,
  status: 204,
  async handle({ environment, account, parameters }) {
    const id = Number(parameters.token);
    if (!Number.isSafeInteger(id) || !(await withdrawToken(environment.database, account.id, id))) throw notFound();
  },
});
