import assert from 'node:assert/strict';
import * as v from 'valibot';
import type { Route } from '../src/api/route';
import { ROUTES } from '../src/api/routes';

const PATTERNS = Object.values(ROUTES).map((route) => ({
  route,
  pattern: new RegExp(`^${route.path.replace(/\{\w+\}/g, '[^/]+')}$`),
}));

/** Whether an answer of success has the shape that the OpenAPI document promises, with nothing left out and nothing besides. */
export function assertContract(method: string, path: string, status: number, body: unknown): void {
  const [pathname = ''] = path.split('?');
  const found = PATTERNS.find(({ route, pattern }) => route.method === method && pattern.test(pathname));
  const schema = found && schemaFor(found.route, status);
  if (!schema) return;
  const result = v.safeParse(schema, body);
  assert.ok(
    result.success,
    `${method} ${path}: ${result.issues?.map((issue) => `${v.getDotPath(issue)} ${issue.message}`)}`,
  );
  assert.deepEqual(result.output, body, `${method} ${path} says more than its schema`);
}

function schemaFor(route: Route, status: number): v.GenericSchema | undefined {
  return status === route.status ? route.response : route.also?.[status]?.response;
}
