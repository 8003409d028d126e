import assert from 'node:assert/strict';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { openApi } from './openapi';
import { ROUTES } from './routes';

const document = openApi(ROUTES) as {
  paths: Record<
    string,
    Record<
      string,
      {
        operationId: string;
        parameters: { name: string; schema: Record<string, unknown> }[];
        responses: Record<string, { content?: object }>;
      }
    >
  >;
};
const operations = Object.values(document.paths).flatMap((methods) => Object.values(methods));

test('every call has an operationId of its own, every kind of its answers, and a section in docs/api.md', () => {
  const ids = operations.map(({ operationId }) => operationId);
  assert.equal(ids.length, Object.keys(ROUTES).length, 'no two calls share a method and a path');
  assert.equal(new Set(ids).size, ids.length);
  const page = readFileSync(join(import.meta.dirname, '../../docs/api.md'), 'utf8');
  for (const [id, { method, path }] of Object.entries(ROUTES))
    assert.ok(page.includes(`### ${id}\n\n\`${method} ${path}\``), `npm run docs:api tells of ${id}`);
  for (const { operationId, responses } of operations) {
    assert.ok(responses.default && responses[422], operationId);
    assert.ok(
      Object.keys(responses).some((status) => /^[23]/.test(status)),
      operationId,
    );
  }
});

test('numbers are numbers: in paths, in queries, and their defaults', () => {
  const parameter = (path: string, name: string) =>
    document.paths[path]?.get?.parameters.find((each) => each.name === name)?.schema ?? {};
  const messages = '/accounts/{account}/messages';
  assert.deepEqual(parameter(messages, 'limit'), { type: 'integer', minimum: 1, maximum: 1_000, default: 100 });
  assert.deepEqual(parameter(messages, 'account'), { type: 'integer', minimum: 1 });
  assert.equal(parameter('/accounts/{account}/senders/{key}/newest', 'key').type, 'string');
  assert.deepEqual(parameter('/accounts/{account}/scans/{scan}', 'scan').oneOf, [
    { type: 'integer', minimum: 1 },
    { const: 'last' },
  ]);
});

test('what is not JSON says so', () => {
  const content = (path: string) => Object.keys(document.paths[path]?.get?.responses[200]?.content ?? {});
  assert.deepEqual(content('/accounts/{account}/runs/{run}/messages'), [
    'application/json',
    'application/jsonl',
    'text/csv',
  ]);
  assert.deepEqual(content('/accounts/{account}/events'), ['text/event-stream']);
  assert.ok(document.paths['/accounts/{account}/columns']?.get?.responses[304]);
  assert.ok(document.paths['/accounts/{account}/scans']?.post?.responses[200]);
});
