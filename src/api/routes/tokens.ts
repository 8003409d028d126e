import * as v from 'valibot';
import { transaction } from '../../store/database';
import { makeToken, tokensOf, withdrawToken } from '../../store/tokens';
import { invalid, notFound } from '../problem';
import { wantProof } from '../proof';
import { route } from '../route';
import * as s from '../schemas';

/** Days that a token may live at most. */
const LONGEST_DAYS = 366;
const DAY_MS = 86_400_000;

const Token = v.object({
  id: v.number(),
  name: v.string(),
  /** Whether it may change anything; else it only reads. */
  acts: v.boolean(),
  endsAt: s.Timestamp,
  madeAt: s.Timestamp,
  usedAt: v.nullable(s.Timestamp),
});

export const listTokens = route({
  method: 'GET',
  path: '/accounts/{account}/tokens',
  summary: 'The tokens for scripts that live. What they are is told once, when they are made.',
  session: true,
  response: v.object({ tokens: v.array(Token) }),
  handle: async ({ environment, account }) => ({ tokens: await tokensOf(environment.database, account.id) }),
});

export const makeApiToken = route({
  method: 'POST',
  path: '/accounts/{account}/tokens',
  summary: 'Makes a token for scripts, good for this account until a day; sent as `Authorization: Bearer`.',
  session: true,
  status: 201,
  body: v.object({
    name: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(100)),
    acts: v.optional(v.boolean(), false),
    endsAt: v.pipe(v.string(), v.isoTimestamp()),
  }),
  response: v.object({ ...Token.entries, token: v.string() }),
  async handle({ environment, account, identity, body }) {
    if (body.acts) await wantProof(environment.database, environment, identity, account);
    const endsAt = new Date(body.endsAt);
    const days = (endsAt.getTime() - Date.now()) / DAY_MS;
    if (!(days > 0 && days <= LONGEST_DAYS))
      throw invalid('A token has to end, within a year.', [{ field: 'endsAt', expected: 'a time within 366 days' }]);
    return transaction(environment.database, (client) => makeToken(client, account.id, { ...body, endsAt }));
  },
});

export const withdraw = route({
  method: 'DELETE',
  path: '/accounts/{account}/tokens/{token}',
  summary: 'Takes a token back.',
  session: true,
  status: 204,
  async handle({ environment, account, parameters }) {
    const id = Number(parameters.token);
    if (!Number.isSafeInteger(id) || !(await withdrawToken(environment.database, account.id, id))) throw notFound();
  },
});
