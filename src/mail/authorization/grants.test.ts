import assert from 'node:assert/strict';
import { createServer, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { after, before, test } from 'node:test';
import { calculatePKCECodeChallenge } from 'oauth4webapi';
import { MailProblem } from '../problem';
import { type AuthorizationClient, clientFor, isSafePlace } from './clients';
import { Grants } from './grants';

/** What the server answers, by path. */
let answers: Record<string, unknown | ((response: ServerResponse) => void)> = {};
const server = createServer((request, response) => {
  const answer = answers[new URL(request.url ?? '/', 'http://x').pathname];
  if (typeof answer === 'function') answer(response);
  else
    response
      .writeHead(answer === undefined ? 404 : 200, { 'content-type': 'application/json' })
      .end(JSON.stringify(answer));
});
before(() => new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve)));
after(() => server.close());

const METADATA = '/.well-known/oauth-authorization-server';

function client(more: Partial<AuthorizationClient> = {}): AuthorizationClient {
  const issuer = `http://localhost:${(server.address() as AddressInfo).port}`;
  return {
    hosts: ['imap.post.example'],
    issuer,
    clientId: 'x',
    scope: 'mail',
    secretBy: 'basic',
    parameters: {},
    ...more,
  };
}

function grants(more: Partial<AuthorizationClient> = {}, allowPrivate = true): Grants {
  return new Grants(client(more), { allowPrivate, caFile: undefined });
}

/** The kind of the problem that an act ends in. */
async function kindOf(act: Promise<unknown>): Promise<string> {
  const error = await act.then(
    () => undefined,
    (thrown: unknown) => thrown,
  );
  return error instanceof MailProblem ? error.kind : `${error}`;
}

const page = { state: 's', verifier: 'v'.repeat(43), redirectUri: 'http://localhost/authorized' };

test('the challenge of PKCE is that of the example in RFC 7636, appendix B', async () => {
  assert.equal(
    await calculatePKCECodeChallenge('dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk'),
    'E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM',
  );
});

test('a request says what the registration says, and the answer is checked against it', async () => {
  const { issuer } = client();
  answers = {
    [METADATA]: { issuer, authorization_endpoint: `${issuer}/auth?kept=1`, token_endpoint: `${issuer}/token` },
  };
  const { url, request } = await grants({ parameters: { prompt: 'consent' } }).beginPage(
    page.redirectUri,
    'me@post.example',
  );
  const said = Object.fromEntries(new URL(url).searchParams);
  assert.deepEqual(
    [
      said.kept,
      said.prompt,
      said.client_id,
      said.redirect_uri,
      said.scope,
      said.state,
      said.login_hint,
      said.response_type,
    ],
    ['1', 'consent', 'x', page.redirectUri, 'mail', request.state, 'me@post.example', 'code'],
  );
  assert.equal(said.code_challenge, await calculatePKCECodeChallenge(request.verifier));
  const returned = new URLSearchParams({ code: 'c', state: 'another' });
  assert.equal(await kindOf(grants().finishPage(request, returned)), 'authorization-refused');
});

test('a hostile or broken authorization server is told apart, and leads nowhere', async () => {
  const { issuer } = client();
  const good = { issuer, authorization_endpoint: `${issuer}/auth`, token_endpoint: `${issuer}/token` };
  const begin = (metadata: unknown, more = {}, allowPrivate = true) => {
    answers = { [METADATA]: metadata };
    return kindOf(grants(more, allowPrivate).beginPage(page.redirectUri, 'me'));
  };
  assert.equal(await begin({ ...good, issuer: 'https://elsewhere.example' }), 'authorization-unreachable');
  assert.equal(await begin({ ...good, authorization_endpoint: 'javascript:alert(1)' }), 'authorization-refused');
  assert.equal(
    await begin({ ...good, authorization_endpoint: 'http://elsewhere.example/auth' }),
    'authorization-refused',
  );
  const huge = (response: ServerResponse) =>
    response.writeHead(200, { 'content-type': 'application/json' }).end(`{"a":"${'x'.repeat(100_000)}"}`);
  assert.equal(await begin(huge), 'authorization-unreachable');
  const away = (response: ServerResponse) => response.writeHead(302, { location: `${issuer}${METADATA}` }).end();
  assert.equal(await begin(away), 'authorization-unreachable');
  // The same rules on addresses as for mail servers.
  assert.equal(await begin(good, {}, false), 'address-not-allowed');
  assert.equal(await begin(undefined), 'authorization-unreachable');

  const returned = new URLSearchParams({ code: 'c', state: page.state });
  const finish = (token: unknown) => {
    answers = { [METADATA]: good, '/token': token };
    return kindOf(grants().finishPage(page, returned));
  };
  assert.equal(await finish({ token_type: 'bearer' }), 'authorization-refused');
  assert.equal(await finish({ access_token: 'a', token_type: 'something-else' }), 'authorization-refused');
  const says = (status: number, error: string) => (response: ServerResponse) =>
    response.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify({ error }));
  assert.equal(await finish(says(400, 'invalid_grant')), 'authorization-refused');
  assert.equal(await finish(says(400, 'temporarily_unavailable')), 'authorization-unreachable');
  assert.equal(
    await finish((response: ServerResponse) => response.writeHead(503).end('<html>')),
    'authorization-unreachable',
  );
  assert.equal(await finish({ access_token: 'a', token_type: 'bearer', expires_in: 60 }), 'undefined');

  const renew = (token: unknown) => {
    answers = { [METADATA]: good, '/token': token };
    return kindOf(grants().renew('r'));
  };
  assert.equal(await renew(says(400, 'invalid_grant')), 'authorization-refused');
  const portal = (response: ServerResponse) => response.writeHead(200, { 'content-type': 'text/html' }).end('<html>');
  assert.equal(await renew(portal), 'authorization-unreachable');

  const given = { device_code: 'd', user_code: 'U', expires_in: 60, verification_uri: 'javascript:alert(1)' };
  answers = { [METADATA]: { ...good, device_authorization_endpoint: `${issuer}/device` }, '/device': given };
  assert.equal(await kindOf(grants().beginDevice()), 'authorization-refused');
  answers = { [METADATA]: good };
  assert.equal(await kindOf(grants().beginDevice()), 'authorization-refused');
});

test('a registration is good for its hosts and those below, and a place for HTTPS or this machine (RFC 8252 §8.3)', () => {
  const clients = [client({ hosts: ['imap.post.example', '*.boxes.example'] })];
  const known = ['imap.post.example', 'a.boxes.example', 'a.b.boxes.example'];
  const unknown = ['boxes.example', 'ximap.post.example', 'imap.post.example.elsewhere.example', 'aboxes.example'];
  for (const host of known) assert.ok(clientFor(host, clients), host);
  for (const host of unknown) assert.equal(clientFor(host, clients), undefined, host);
  for (const safe of ['https://a.example', 'http://127.0.0.1:1', 'http://localhost/x', 'http://[::1]:2'])
    assert.ok(isSafePlace(safe), safe);
  for (const unsafe of [
    'http://a.example',
    'http://127.0.0.1.example',
    'file:///x',
    'data:,',
    'http://localhost.example',
  ])
    assert.ok(!isSafePlace(unsafe), unsafe);
});
