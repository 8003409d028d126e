import { toJsonSchema } from '@valibot/to-json-schema';
import type { GenericSchema } from 'valibot';
import type { Route } from './route';

const schemaOf = (schema: GenericSchema, side: 'input' | 'output') => {
  const { $schema: _, ...rest } = toJsonSchema(schema, { errorMode: 'ignore', typeMode: side });
  return rest;
};

const PROBLEM = {
  type: 'object',
  description: 'Problem details (RFC 9457).',
  required: ['type', 'title', 'status', 'detail'],
  properties: {
    type: { type: 'string' },
    title: { type: 'string' },
    status: { type: 'integer' },
    detail: { type: 'string' },
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

/** The OpenAPI 3.1 document of these routes. */
export function openApi(routes: readonly Route[]): object {
  const paths: Record<string, Record<string, object>> = {};
  for (const route of routes) {
    const path = `/api${route.path}`;
    paths[path] ??= {};
    paths[path][route.method.toLowerCase()] = operation(route);
  }
  return {
    openapi: '3.1.0',
    info: {
      title: 'Tamsel',
      version: '1',
      description:
        'Measures what fills a mailbox and wins the room back. All times are RFC 3339 in UTC, all sizes octets.',
    },
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

function operation(route: Route): object {
  const inPath = [...route.path.matchAll(/\{(\w+)\}/g)].map(([, name]) => ({
    name,
    in: 'path',
    required: true,
    schema: { type: 'string' },
  }));
  const query = route.query
    ? (schemaOf(route.query, 'input') as { properties?: Record<string, object>; required?: string[] })
    : {};
  const inQuery = Object.entries(query.properties ?? {}).map(([name, schema]) => ({
    name,
    in: 'query',
    required: query.required?.includes(name) ?? false,
    schema,
  }));
  const problem = {
    description: 'A problem',
    content: { 'application/problem+json': { schema: { $ref: '#/components/schemas/Problem' } } },
  };
  const success: Record<string, unknown> = { description: route.status === 204 ? 'Done' : route.summary };
  if (route.response) success.content = { 'application/json': { schema: schemaOf(route.response, 'input') } };
  return {
    summary: route.summary,
    ...(route.session ? { security: [{ session: [] }] } : {}),
    parameters: [...inPath, ...inQuery],
    ...(route.body
      ? { requestBody: { required: true, content: { 'application/json': { schema: schemaOf(route.body, 'input') } } } }
      : {}),
    responses: { [route.status]: success, default: problem },
  };
}
