import assert from 'node:assert/strict';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import { findOrCreateAccount } from '../../src/store/access/accounts';
import { makeToken } from '../../src/store/access/tokens';
import { cleanUp, freshDatabase, later, temporaryFolder } from '../harness';

after(cleanUp);

/** The API as the web server calls it, in this process. */
let ask: (
  method: string,
  path: string,
  more?: { body?: string; headers?: Record<string, string> },
) => Promise<Response>;
let lets: (headers: Record<string, string>, path?: string) => number;
let reads: string;
let acts: string;

before(async () => {
  const { url, database } = await freshDatabase();
  Object.assign(process.env, {
    TAMSEL_DATABASE_URL: url,
    TAMSEL_KEY_FILE: join(temporaryFolder(), 'key'),
    TAMSEL_ARCHIVE_DIR: temporaryFolder(),
    TAMSEL_PORT: '4321',
    TAMSEL_HOST: '127.0.0.1',
  });
  const { handleApi } = await import('../../src/api/handle');
  const { checkOrigin } = await import('../../src/api/origin-check');
  const { theEnvironment } = await import('../../src/api/environment');
  theEnvironment().log.level = 'silent';
  later(() => theEnvironment().database.end());
  const tokenOf = async (user: string, may: boolean) => {
    const { id } = await findOrCreateAccount(database, { host: 'mail.example', port: 993, security: 'tls', user });
    const endsAt = new Date(Date.now() + 3_600_000);
    return (await makeToken(database, id, { name: 'x', acts: may, endsAt })).token;
  };
  reads = await tokenOf('one@mail.example', false);
  acts = await tokenOf('two@mail.example', true);
  ask = (method, path, { body, headers = {} } = {}) =>
    handleApi(
      new Request(`http://127.0.0.1:4321/api${path}`, { method, headers, ...(body === undefined ? {} : { body }) }),
      '127.0.0.1',
      true,
    );
  lets = (headers, path = '/api/health') =>
    checkOrigin(new Request(`http://127.0.0.1:4321${path}`, { headers: { host: '127.0.0.1:4321', ...headers } }))
      ?.status ?? 200;
});

const bearer = (token: string) => ({ authorization: `Bearer ${token}` });
const json = { 'content-type': 'application/json' };

test('who asks gets what is theirs, and nothing that is another’s or not for them', async () => {
  const cases: [string, string, Record<string, string>, number, string?][] = [
    ['GET', '/session', {}, 401, 'no-session'],
    ['GET', '/accounts/1/level', {}, 401, 'no-session'],
    ['GET', '/accounts/1/level', bearer('tamsel_none'), 401, 'token-not-valid'],
    ['GET', '/accounts/1/level', { authorization: 'Basic eDp5' }, 401, 'no-session'],
    ['GET', '/accounts/1/level', bearer(reads), 200],
    ['GET', '/accounts/2/level', bearer(reads), 404, 'not-found'],
    ['GET', '/accounts/2/level', bearer(acts), 200],
    ['GET', '/accounts/9/level', bearer(acts), 404, 'not-found'],
    ['POST', '/accounts/1/scans', bearer(reads), 403, 'token-may-not'],
    ['POST', '/accounts/2/scans', bearer(acts), 202],
    ['DELETE', '/accounts/2', bearer(acts), 403, 'token-may-not'],
    ['GET', '/accounts/2/tokens', bearer(acts), 403, 'token-may-not'],
    ['GET', '/authorizations', {}, 200],
    ['GET', '/nowhere', {}, 404, 'not-found'],
    ['PATCH', '/health', {}, 405, 'method-not-allowed'],
    ['GET', '/accounts/2/runs/0', bearer(acts), 404, 'not-found'],
    ['GET', '/accounts/2/runs/x', bearer(acts), 404, 'not-found'],
    ['GET', '/accounts/2/runs/99999999999', bearer(acts), 404, 'not-found'],
    ['GET', '/accounts/2/senders/%E0%A4%A/newest', bearer(acts), 404, 'not-found'],
    ['GET', '/accounts/2/senders/a%00b/newest', bearer(acts), 404, 'not-found'],
  ];
  for (const [method, path, headers, status, type] of cases) {
    const answer = await ask(method, path, {
      headers,
      ...(method === 'POST' ? { body: '{}', headers: { ...headers, ...json } } : {}),
    });
    const body = answer.status === 204 ? {} : await answer.json();
    assert.deepEqual([answer.status, body.type?.replace('/problems/', '')], [status, type], `${method} ${path}`);
  }
});

test('an unknown parameter is refused by its name, a known one is read, and the last of a repeated one counts', async () => {
  const wrong = await ask('GET', '/accounts/1/messages?were=size&limit=5', { headers: bearer(reads) });
  const { errors } = await wrong.json();
  assert.deepEqual([wrong.status, errors[0].field], [422, 'were']);
  assert.equal((await ask('GET', '/accounts/1/level?x=1', { headers: bearer(reads) })).status, 422);
  assert.equal((await ask('GET', '/accounts/1/messages?limit=5', { headers: bearer(reads) })).status, 200);
  for (const limit of ['0', '1001', '1e2', '-1', ''])
    assert.equal(
      (await ask('GET', `/accounts/1/messages?limit=${limit}`, { headers: bearer(reads) })).status,
      422,
      limit,
    );
});

test('a body is JSON of a size that suits who sends it', async () => {
  const filter = (octets: number) => JSON.stringify({ name: 'x', where: `subject ~ "${'x'.repeat(octets)}"` });
  const send = (body: string, headers: Record<string, string>) =>
    ask('POST', '/accounts/2/filters', { body, headers: { ...json, ...headers } });
  assert.equal((await send(filter(10), bearer(acts))).status, 201);
  assert.equal((await send('{', bearer(acts))).status, 422);
  assert.equal((await send(filter(2 ** 20), bearer(acts))).status, 413);
  assert.equal((await send(filter(9_999_999), bearer(acts))).status, 413);
  const strange = JSON.stringify({ address: `a@${'x'.repeat(17_000)}.example` });
  assert.equal(
    (await ask('POST', '/discovery', { body: strange, headers: json })).status,
    413,
    'of a stranger 16 KiB are taken',
  );
  const form = { ...bearer(acts), 'content-type': 'application/x-www-form-urlencoded' };
  assert.equal((await ask('POST', '/accounts/2/filters', { body: 'name=x', headers: form })).status, 415);
});

test('other sites, and names that are not ours, are refused; scripts and own pages are not', () => {
  const own = 'http://127.0.0.1:4321';
  for (const [headers, path, status] of [
    [{}, '/api/health', 200],
    [{ origin: own }, '/api/health', 200],
    [{ origin: 'http://localhost:4321' }, '/api/health', 200],
    [{ origin: 'http://127.0.0.1:9' }, '/api/health', 403],
    [{ origin: 'https://elsewhere.example' }, '/api/health', 403],
    [{ origin: 'null' }, '/api/health', 403],
    [{ 'sec-fetch-site': 'same-origin', 'sec-fetch-mode': 'cors' }, '/api/health', 200],
    [{ 'sec-fetch-site': 'cross-site', 'sec-fetch-mode': 'no-cors' }, '/level', 403],
    [{ 'sec-fetch-site': 'cross-site', 'sec-fetch-mode': 'navigate' }, '/level', 200],
    [{ 'sec-fetch-site': 'cross-site', 'sec-fetch-mode': 'navigate' }, '/api/health', 403],
    [{ host: 'elsewhere.example:4321' }, '/api/health', 421],
    [{ host: '127.0.0.1:80' }, '/api/health', 421],
    [{ host: '10.0.0.1:4321' }, '/api/health', 421],
    [{ host: '[::1]:4321' }, '/api/health', 200],
  ] as [Record<string, string>, string, number][])
    assert.equal(lets(headers, path), status, `${JSON.stringify(headers)} ${path}`);
});
