import * as v from 'valibot';
import { DeviceCode, MailboxAt, SignedIn } from '../../contract/schemas';
import type { Tokens } from '../../core/authorization/tokens';
import { type AuthorizationClient, clientFor } from '../../mail/authorization/clients';
import { type DeviceRequest, Grants, type PageRequest } from '../../mail/authorization/grants';
import type { ServerAddress } from '../../mail/server';
import { keepRequest, putOff, requestToAskAbout, takeRequest } from '../../store/access/authorization-requests';
import { transaction } from '../../store/database';
import { authorizingCookie, tokenHashOf } from '../cookie';
import type { Environment } from '../environment';
import { conflict, invalid, type Problem } from '../problem';
import { type RequestContext, route } from '../route';
import { admitSignIn, normalised, signInProblem, signInWith } from '../sign-in';

/** A person may be asked for a second factor, or look for a telephone. */
const PAGE_SECONDS = 20 * 60;
/** Where browsers come back to: the page of that name, since our cookies do not go along when another site sends them. */
const RETURN_TO = '/authorized';

interface PageWay {
  place: ServerAddress;
  page: PageRequest;
}

interface DeviceWay {
  place: ServerAddress;
  device: DeviceRequest;
}

export const listAuthorizations = route({
  method: 'GET',
  path: '/authorizations',
  summary:
    'Lists the mail servers for which this instance supports OAuth 2.0. `*.` before a name means all names below it.',
  response: v.object({ hosts: v.array(v.string()) }),
  async handle({ environment }) {
    return { hosts: (environment.outbound.authorization ?? []).flatMap(({ hosts }) => hosts) };
  },
});

export const beginAuthorization = route({
  method: 'POST',
  path: '/authorizations',
  session: true,
  summary: 'Begins an OAuth 2.0 authorization (RFC 6749 §4.1, RFC 7636). The answer says where to send the browser.',
  body: MailboxAt,
  status: 201,
  response: v.object({ url: v.string() }),
  async handle(context) {
    const { environment, request, body } = context;
    const { place, grants } = await registered(context, body);
    const home = new URL(RETURN_TO, environment.origin ?? `http://${request.headers.get('host')}`);
    const { url, request: page } = await grants.beginPage(home.href, place.user).catch(rethrow);
    return began(environment, { place, page }, PAGE_SECONDS, 0, { url });
  },
});

export const finishAuthorization = route({
  method: 'POST',
  path: '/authorizations/finish',
  session: true,
  summary: 'Finishes an authorization with the query that the browser came back with, and signs in.',
  body: v.object({ query: v.pipe(v.string(), v.maxLength(8_000)) }),
  status: 201,
  response: SignedIn,
  async handle(context) {
    const { environment, request, body } = context;
    const hash = tokenHashOf(request, environment, 'authorizing');
    const begun = hash && (await takeRequest<PageWay>(environment.database, environment.vault, hash));
    if (!begun?.page) throw notBegun();
    const grants = new Grants(clientOf(environment, begun.place), environment.outbound);
    const tokens = await grants.finishPage(begun.page, new URLSearchParams(body.query)).catch(rethrow);
    return signedIn(context, begun.place, tokens);
  },
});

export const beginDeviceAuthorization = route({
  method: 'POST',
  path: '/authorizations/device',
  session: true,
  summary: 'Begins an authorization on another device (RFC 8628). The answer has a code and the page to enter it on.',
  body: MailboxAt,
  status: 201,
  response: DeviceCode,
  async handle(context) {
    const { place, grants } = await registered(context, context.body);
    const device = await grants.beginDevice().catch(rethrow);
    const { userCode: code, place: url, interval, expiresIn } = device;
    const endsAt = new Date(Date.now() + expiresIn * 1000).toISOString();
    const said = { code, url, interval, endsAt };
    return began(context.environment, { place, device }, expiresIn, interval, said);
  },
});

export const finishDeviceAuthorization = route({
  method: 'POST',
  path: '/authorizations/device/finish',
  session: true,
  summary: 'Asks whether the person has entered the code. Once they have, it signs in.',
  body: v.object({}),
  status: 201,
  response: SignedIn,
  also: {
    202: {
      description: 'Nobody has entered the code yet. Ask again after `interval` seconds.',
      response: v.object({ state: v.literal('waiting'), interval: v.number() }),
    },
  },
  async handle(context) {
    const { environment, request } = context;
    const { database, vault, outbound } = environment;
    const hash = tokenHashOf(request, environment, 'authorizing');
    if (!hash) throw notBegun();
    // One asks at a time: to ask sooner than the server allows has it ask for more patience still.
    const asked = await transaction(database, async (client) => {
      const begun = await requestToAskAbout<DeviceWay>(client, vault, hash);
      if (begun === 'early') return { waits: 1 };
      if (!begun?.device) throw notBegun();
      const { device, place } = begun;
      const answer = await new Grants(clientOf(environment, place), outbound).pollDevice(device.deviceCode);
      if (typeof answer !== 'string') return { place, tokens: answer };
      // RFC 8628 §3.5: five seconds more, then and from then on.
      const waits = answer === 'slower' ? device.interval + 5 : device.interval;
      await putOff(client, vault, hash, { place, device: { ...device, interval: waits } }, waits);
      return { waits };
    }).catch(rethrow);
    if (asked.waits !== undefined)
      return new Response(JSON.stringify({ state: 'waiting', interval: asked.waits }), {
        status: 202,
        headers: { 'content-type': 'application/json' },
      });
    await takeRequest(database, vault, hash);
    return signedIn(context, asked.place, asked.tokens);
  },
});

function rethrow(error: unknown): never {
  throw signInProblem(error);
}

/** Where an authorization is to be asked for, once the attempt is counted. */
async function registered(
  context: RequestContext,
  asked: ServerAddress,
): Promise<{ place: ServerAddress; grants: Grants }> {
  const place = normalised(asked);
  await admitSignIn(context, place);
  return { place, grants: new Grants(clientOf(context.environment, place), context.environment.outbound) };
}

function clientOf({ outbound }: Environment, { host }: ServerAddress): AuthorizationClient {
  const client = clientFor(host, outbound.authorization);
  if (client) return client;
  throw invalid(`This instance is not registered to ask for authorizations at ${host}.`, [
    { field: 'host', expected: 'a server of GET /api/authorizations' },
  ]);
}

async function began(
  environment: Environment,
  request: PageWay | DeviceWay,
  seconds: number,
  interval: number,
  said: object,
): Promise<Response> {
  const token = await keepRequest(environment.database, environment.vault, request, seconds, interval);
  return new Response(JSON.stringify(said), {
    status: 201,
    headers: { 'content-type': 'application/json', 'set-cookie': authorizingCookie(environment, token) },
  });
}

async function signedIn(context: RequestContext, place: ServerAddress, tokens: Tokens): Promise<Response> {
  const { environment } = context;
  const entry = { proof: { token: tokens.access }, secret: { tokens } };
  const response = await signInWith(context, place, entry).catch(async (error: unknown) => {
    // Nobody holds them now, so nobody is to be able to use them.
    const grants = new Grants(clientOf(environment, place), environment.outbound);
    await grants.revoke(tokens).catch(() => undefined);
    throw error;
  });
  response.headers.append('set-cookie', authorizingCookie(environment, ''));
  return response;
}

function notBegun(): Problem {
  return conflict(
    'no-authorization',
    'This browser has no sign-in under way, or it took too long. Start again on the sign-in page.',
  );
}
