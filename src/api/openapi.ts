import { toJsonSchema } from '@valibot/to-json-schema';
import type { GenericSchema } from 'valibot';
import type { Route } from './route';

const PROBLEM = {
  type: 'object',
  description: 'Problem details (RFC 9457).',
  required: ['type', 'title', 'status', 'detail'],
  properties: {
    type: { type: 'string', format: 'uri-reference' },
    title: { type: 'string' },
    status: { type: 'integer' },
    detail: { type: 'string' },
    instance: { type: 'string', format: 'uri' },
    errors: {
      type: 'array',
      items: {
        type: 'object',
        required: ['field'],
        properties: { field: { type: 'string' }, at: { type: 'integer' }, expected: { type: 'string' } },
      },
    },
  },
};

/** The OpenAPI 3.1 document of routes, each under its operationId. */
export function openApi(routes: Readonly<Record<string, Route>>): object {
  const paths: Record<string, Record<string, object>> = {};
  for (const [operationId, route] of Object.entries(routes)) {
    paths[route.path] ??= {};
    Object.assign(paths[route.path] as object, { [route.method.toLowerCase()]: operation(operationId, route) });
  }
  return {
    openapi: '3.1.0',
    info: {
      title: 'Tamsel',
      version: '1',
      description:
        'Measures what fills a mailbox and frees the space. All times are RFC 3339 in UTC. All sizes are octets.',
    },
    servers: [{ url: '/api' }],
    paths,
    components: {
      schemas: { Problem: PROBLEM },
      securitySchemes: {
        session: { type: 'apiKey', in: 'cookie', name: 'tamsel-{port}' },
        token: { type: 'http', scheme: 'bearer' },
      },
    },
    security: [{ session: [] }, { token: [] }],
  };
}

function operation(operationId: string, route: Route): object {
  const json = (schema: GenericSchema) => ({ 'application/json': { schema: schemaOf(schema) } });
  const content = {
    ...(route.response ? json(route.response) : {}),
    ...Object.fromEntries((route.formats ?? []).map((type) => [type, {}])),
  };
  const success = {
    description: route.status === 204 ? 'Done. There is no content.' : route.summary,
    ...(Object.keys(content).length > 0 ? { content } : {}),
  };
  const others = Object.entries(route.also ?? {}).map(([status, { description, response }]) => [
    status,
    { description, ...(response ? { content: json(response) } : {}) },
  ]);
  return {
    operationId,
    summary: route.summary,
    ...(route.session ? { security: [{ session: [] }] } : {}),
    parameters: [...parametersInPath(route), ...parametersInQuery(route)],
    ...(route.body ? { requestBody: { required: true, content: json(route.body) } } : {}),
    ...(route.takesOctets ? { requestBody: { required: true, content: { 'application/octet-stream': {} } } } : {}),
    responses: {
      [route.status]: success,
      ...Object.fromEntries(others),
      ...Object.fromEntries(problemsOf(route).map(([status, description]) => [status, problem(description)])),
      default: problem('Any other problem. docs/api.md lists the types.'),
    },
  };
}

function problemsOf(route: Route): [number, string][] {
  const isOfAccount = route.path.includes('{account}');
  const problems: [number, string, boolean][] = [
    [401, 'Nobody is signed in.', isOfAccount],
    [403, 'The token may not do this.', isOfAccount && (route.session === true || route.method !== 'GET')],
    [404, 'There is no such thing, or it is another person’s.', route.path.includes('{')],
    [415, 'The body is not JSON.', route.body !== undefined],
    [422, 'Something in the request can’t be used. `errors` says what and where.', true],
  ];
  return problems.flatMap(([status, description, applies]) => (applies ? [[status, description]] : []));
}

function problem(description: string): object {
  return { description, content: { 'application/problem+json': { schema: { $ref: '#/components/schemas/Problem' } } } };
}

function parametersInPath({ path }: Route): object[] {
  return [...path.matchAll(/\{(\w+)\}/g)].map(([, name = '']) => ({
    name,
    in: 'path',
    required: true,
    schema: PATH_SCHEMAS[name] ?? { type: 'integer', minimum: 1 },
  }));
}

/** Of the parameters in paths that are not plain numbers. */
const PATH_SCHEMAS: Record<string, object> = {
  // A section of a message (RFC 9051 §6.4.5.1).
  part: { type: 'string' },
  key: { type: 'string' },
  scan: { oneOf: [{ type: 'integer', minimum: 1 }, { const: 'last' }] },
};

function parametersInQuery({ query }: Route): object[] {
  if (!query) return [];
  const { properties = {}, required = [] } = schemaOf(query) as {
    properties?: Record<string, object>;
    required?: string[];
  };
  return Object.entries(properties).map(([name, schema]) => ({
    name,
    in: 'query',
    required: required.includes(name),
    schema: wholeNumberOf(query, name) ?? schema,
  }));
}

interface Piped {
  pipe?: readonly { type: string; requirement?: unknown }[];
  wrapped?: Piped;
  default?: unknown;
}

/** The schema of a parameter that is a whole number, which a query writes as digits; undefined for others. */
function wholeNumberOf(query: GenericSchema, name: string): object | undefined {
  const entry = (query as unknown as { entries: Record<string, Piped> }).entries[name];
  const pipe = (entry?.wrapped ?? entry)?.pipe ?? [];
  if (!pipe.some(({ type }) => type === 'transform')) return undefined;
  const bound = (type: string) => pipe.find((step) => step.type === type)?.requirement;
  const usual = entry?.default === undefined ? {} : { default: Number(entry.default) };
  return { type: 'integer', minimum: bound('min_value'), maximum: bound('max_value'), ...usual };
}

function schemaOf(schema: GenericSchema): object {
  const { $schema: _, ...rest } = toJsonSchema(schema, { errorMode: 'ignore', typeMode: 'input' });
  return rest;
}
