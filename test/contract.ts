import assert from 'node:assert/strict';
import * as v from 'valibot';
import type { Route } from '../src/api/route';

let patterns: { route: Route; pattern: RegExp }[] | undefined;

/** All of the server is read for its routes: only once something is asked. */
async function routes() {
  const { ROUTES } = await import('../src/api/routes');
  patterns ??= Object.values(ROUTES).map((route) => ({
    route,
    pattern: new RegExp(`^${route.path.replace(/\{\w+\}/g, '[^/]+')}$`),
  }));
  return patterns;
}

/** Whether an answer of success has the shape that the OpenAPI document promises, with nothing left out and nothing besides. */
export async function assertContract(method: string, path: string, status: number, body: unknown): Promise<void> {
  const [pathname = ''] = path.split('?');
  const found = (await routes()).find(({ route, pattern }) => route.method === method && pattern.test(pathname));
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
