import { randomUUID } from 'node:crypto';
import * as v from 'valibot';
import { isDatabaseTrouble } from '../store/database';
import { readBody } from './body';
import { type Environment, theEnvironment } from './environment';
import { type Identity, identityOf, mayNot } from './identity';
import { networkOf } from './network';
import { openApi } from './openapi';
import { type FieldError, invalid, noSession, notFound, Problem } from './problem';
import type { Route, RouteInput } from './route';
import { ROUTES } from './routes';

interface Compiled {
  route: Route;
  pattern: RegExp;
  names: string[];
}

const compiled: Compiled[] = Object.values(ROUTES).map((route) => {
  const names = [...route.path.matchAll(/\{(\w+)\}/g)].map(([, name]) => name as string);
  return { route, names, pattern: new RegExp(`^/api${route.path.replace(/\{\w+\}/g, '([^/]+)')}$`) };
});

let document: string | undefined;

/** Answers a request to the API. Every failure becomes a problem. */
export async function handleApi(request: Request, clientAddress: string, isDirect: boolean): Promise<Response> {
  const { pathname } = new URL(request.url);
  const environment = theEnvironment();
  let route: Route | undefined;
  let identity: Identity | undefined;
  try {
    if (pathname === '/api/openapi.json') {
      document ??= JSON.stringify(openApi(ROUTES));
      return new Response(document, { headers: { 'content-type': 'application/json' } });
    }
    const found = find(request.method, pathname);
    const { parameters } = found;
    route = found.route;
    identity = route.anonymous ? undefined : await identityOf(request, environment);
    if (identity && !identity.sessionHash) admitScript(route, identity);
    const account = accountFor(route, parameters, identity);
    const operator = operatorFor(route, parameters, identity);
    const query = queryOf(route, new URL(request.url).searchParams);
    const body = route.body
      ? checked(route.body, await readBody(request, route, identity !== undefined), 'body')
      : undefined;
    const result = await route.handle({
      environment,
      request,
      clientAddress,
      isDirect,
      identity,
      parameters,
      account,
      operator,
      query,
      body,
    } as RouteInput);
    if (result instanceof Response) return result;
    if (route.status === 204) return new Response(null, { status: 204 });
    return new Response(JSON.stringify(result), {
      status: route.status,
      headers: { 'content-type': 'application/json', 'cache-control': 'no-store' },
    });
  } catch (error) {
    // Who asked has gone, and so nothing was done: there is nobody to tell, and nothing was refused.
    if (request.signal.aborted && error === request.signal.reason) return new Response(null, { status: 499 });
    const problem = error instanceof Problem ? error : (ofDatabase(error) ?? internal(environment, error));
    const { status, type } = problem;
    const who = { from: networkOf(clientAddress), accounts: identity?.accounts.map(({ id }) => id) };
    // The route and not the path, which may hold what nobody should read in a log.
    environment.refusals.info(
      { ...who, method: request.method, route: route?.path, status, problem: type },
      'a request was refused',
    );
    return problem.toResponse();
  }
}

/** A number out of range, a text that is no value of its type, and characters that can't be stored (PostgreSQL, appendix A). */
const NOT_HELD: ReadonlySet<string> = new Set(['22003', '22P02', '22021', '22P05']);

/** What PostgreSQL says of a value that it can't hold, and of a statement that took too long; all else is a fault of ours. */
function ofDatabase(error: unknown): Problem | undefined {
  const { code = '' } = error as { code?: string };
  if (NOT_HELD.has(code)) return invalid('A value in the request is out of range.', []);
  const tooSlow = 'That took too long. Narrow it down, or try again later.';
  // A statement that took too long; through a pooler it is node-postgres that gives up.
  if (code === '57014' || (error as Error | undefined)?.message === 'Query read timeout')
    return new Problem(503, 'too-slow', 'Too slow', tooSlow, undefined, { 'retry-after': '60' });
  // It restarts, or another server takes over from it.
  return isDatabaseTrouble(error)
    ? new Problem(
        503,
        'database-away',
        'The database is away',
        'The database does not answer just now. Nothing was lost. Try again in a moment.',
        undefined,
        { 'retry-after': '5' },
      )
    : undefined;
}

function internal({ log }: Environment, error: unknown): Problem {
  const instance = `urn:uuid:${randomUUID()}`;
  log.error({ err: error, instance }, 'a request failed');
  return new Problem(
    500,
    'internal',
    'Something went wrong',
    'Something went wrong in Tamsel. Nothing was lost. Try again.',
    undefined,
    {},
    instance,
  );
}

function find(method: string, pathname: string): { route: Route; parameters: Record<string, string> } {
  const matching = compiled.flatMap(({ route, pattern, names }) => {
    const match = pattern.exec(pathname);
    return match
      ? [
          {
            route,
            parameters: Object.fromEntries(names.map((name, index) => [name, decode(match[index + 1] as string)])),
          },
        ]
      : [];
  });
  const found = matching.find(({ route }) => route.method === method);
  if (found) {
    if (!Object.entries(found.parameters).every(([name, value]) => isPossible(name, value))) throw notFound();
    return found;
  }
  if (matching.length === 0) throw notFound();
  const allow = matching.map(({ route }) => route.method).join(', ');
  throw new Problem(405, 'method-not-allowed', 'Method not allowed', `Only ${allow} is allowed here.`, undefined, {
    allow,
  });
}

/** Numbers above those that PostgreSQL's integer holds. */
const LARGE_NUMBERS: ReadonlySet<string> = new Set(['account', 'operator', 'message', 'file']);

/** Whether anything can be there: all but a sender's key, a feed, and the last scan, have numbers. */
function isPossible(name: string, value: string): boolean {
  if (name === 'key') return !value.includes('\0');
  if (name === 'part') return /^\d{1,5}(\.\d{1,5}){0,63}$/.test(value);
  if (name === 'secret') return /^[\w-]{43}$/.test(value);
  if (name === 'scan' && value === 'last') return true;
  const most = LARGE_NUMBERS.has(name) ? Number.MAX_SAFE_INTEGER : 2 ** 31 - 1;
  return /^[1-9]\d{0,15}$/.test(value) && Number(value) <= most;
}

function decode(part: string): string {
  try {
    return decodeURIComponent(part);
  } catch {
    throw notFound();
  }
}

/** What a token does not let a script do. */
function admitScript(route: Route, { acts }: Identity): void {
  if (route.session) throw mayNot('Sign in on the page for this. Tokens are not allowed to do it.');
  if (route.method !== 'GET' && !acts) throw mayNot('This token only reads. Make one that may act.');
}

/** The account in the path, which must be of who asks: another's is as if it were not there. */
function accountFor(route: Route, parameters: Record<string, string>, identity: Identity | undefined) {
  if (!route.path.includes('{account}')) return undefined;
  if (!identity) throw noSession();
  const account = identity.accounts.find(({ id }) => `${id}` === parameters.account);
  if (!account) throw notFound();
  return account;
}

/** The operator in the path, who must be of the session. */
function operatorFor(route: Route, parameters: Record<string, string>, identity: Identity | undefined) {
  if (!route.path.includes('{operator}')) return undefined;
  if (!identity) throw noSession();
  const operator = identity.operators.find(({ id }) => `${id}` === parameters.operator);
  if (!operator) throw notFound();
  return operator;
}

function queryOf({ query }: Route, given: URLSearchParams): unknown {
  const known = query ? Object.keys((query as unknown as { entries: object }).entries) : [];
  const unknown = [...new Set(given.keys())].filter((name) => !known.includes(name));
  if (unknown.length > 0)
    throw invalid(
      `This call has no parameter ${unknown.join(', ')}.`,
      unknown.map((field) => ({ field, expected: known.length > 0 ? `one of ${known.join(', ')}` : 'no parameters' })),
    );
  return query && checked(query, Object.fromEntries(given), 'query');
}

function checked(schema: v.GenericSchema, value: unknown, what: string): unknown {
  const result = v.safeParse(schema, value);
  if (result.success) return result.output;
  const errors = result.issues.map(
    (issue): FieldError => ({ field: v.getDotPath(issue) ?? what, expected: issue.expected ?? issue.message }),
  );
  throw invalid(`The ${what} is not valid: ${errors.map(({ field }) => field).join(', ')}.`, errors);
}
