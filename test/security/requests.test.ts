import assert from 'node:assert/strict';
import { once } from 'node:events';
import { readFileSync } from 'node:fs';
import { request } from 'node:http';
import { connect } from 'node:net';
import { after, before, test } from 'node:test';
import { App, cleanUp, startStandIn, tinyScenario, until } from '../harness';

const JSON_TYPE = { 'content-type': 'application/json' };
after(cleanUp);

let host: Awaited<ReturnType<typeof startStandIn>>;
let app: App;
let account: string;

before(async () => {
  host = await startStandIn({ scenario: tinyScenario() });
  app = await App.start();
  account = await app.signIn({ port: host.plainPort });
  assert.equal((await app.scanned(account)).state, 'done');
});

const headers = () => ({ cookie: app.cookie, 'content-type': 'application/json' });

/** Sends so many octets without saying how many will come; gives the status and how many were taken. */
function poured(
  path: string,
  octets: number,
  more: Record<string, string> = {},
): Promise<[status: number, sent: number]> {
  return new Promise((resolve, reject) => {
    let sent = 0;
    const sending = request(
      `${app.origin}/api${path}`,
      { method: 'POST', headers: { ...JSON_TYPE, ...more } },
      (response) => {
        response.resume();
        response.once('close', () => resolve([response.statusCode ?? 0, sent]));
      },
    );
    // Who goes on sending may be cut off before the answer.
    sending.on('error', (error: Error & { code?: string }) =>
      ['EPIPE', 'ECONNRESET'].includes(error.code ?? '') ? resolve([0, sent]) : reject(error),
    );
    const chunk = Buffer.alloc(64 * 1024, ' ');
    const pour = () => {
      while (sent < octets && !sending.destroyed) {
        sent += chunk.length;
        if (!sending.write(chunk)) return void sending.once('drain', pour);
      }
      sending.end();
    };
    pour();
  });
}

test('a body is counted as it comes, and no more of it is held than is allowed', async () => {
  const peak = () => Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${app.webPid}/status`, 'utf8'))?.[1]) / 1024;
  const before = peak();
  for (const [path, known, most] of [
    ['/session', false, 16 * 2 ** 10],
    ['/discovery', false, 16 * 2 ** 10],
    [`${account}/lots`, true, 2 ** 20],
    [`${account}/decisions/sheet`, true, 16 * 2 ** 20],
  ] as const) {
    const [status, sent] = await poured(path, 200 * 2 ** 20, known ? headers() : {});
    assert.ok(status === 413 || status === 0, `${path}: ${status}`);
    assert.ok(sent < 100 * 2 ** 20, `${path}: ${sent} octets were taken`);
    const [large] = await poured(path, most + 512 * 1024, known ? headers() : {});
    assert.equal(large, 413, path);
    const [small] = await poured(path, most - 64 * 1024, known ? headers() : {});
    if (most > 64 * 1024) assert.equal(small, 422, `${path}: what is allowed is read`);
  }
  assert.ok(peak() - before < 150, `${peak() - before} MB more`);
  const post = (type: string, body: string) =>
    fetch(`${app.origin}/api/session`, { method: 'POST', headers: { 'content-type': type }, body });
  assert.equal((await post('application/json', 'x'.repeat(20_000))).status, 413);
  for (const type of [
    'text/plain',
    'application/x-www-form-urlencoded',
    'application/jsonx',
    'multipart/form-data; boundary=x',
  ])
    assert.equal((await post(type, '{}')).status, 415, type);
  assert.equal((await post('Application/JSON ; charset=utf-8', '{}')).status, 422, 'read, and wrong');
});

/** Opens a stream of events; tells when the server closed it. */
async function stream(more: Record<string, string>): Promise<{ status: number; closed: Promise<void>; stop(): void }> {
  const asked = request(`${app.origin}/api${account}/events`, { headers: more });
  asked.on('error', () => undefined);
  asked.end();
  const [response] = (await once(asked, 'response')) as [import('node:http').IncomingMessage];
  const closed = new Promise<void>((resolve) => response.once('close', () => resolve()));
  response.resume();
  response.on('error', () => undefined);
  return { status: response.statusCode ?? 0, closed, stop: () => asked.destroy() };
}

test('a session has so many streams of events, and a place that is left is another’s', async () => {
  const open = [];
  for (let count = 0; count < 20; count++) open.push(await stream(headers()));
  assert.ok(open.every(({ status }) => status === 200));
  assert.equal((await stream(headers())).status, 429);
  for (const one of open) one.stop();
  await until(async () => {
    const again = await stream(headers());
    again.stop();
    return again.status === 200;
  });
});

test('streams end with the session and with the token that they were opened by', async () => {
  const own = app.cookie;
  const endsAt = new Date(Date.now() + 3_600_000).toISOString();
  const made = (await app.call('POST', `${account}/tokens`, { name: 'watcher', endsAt })).body;
  const byToken = await stream({ authorization: `Bearer ${made.token}` });
  assert.equal(byToken.status, 200);
  assert.equal((await app.call('DELETE', `${account}/tokens/${made.id}`)).status, 204);
  await byToken.closed;

  app.forgetCookie();
  await app.signIn({ port: host.plainPort });
  const bySession = await stream(headers());
  assert.equal(bySession.status, 200);
  assert.equal((await app.call('DELETE', '/session')).status, 204);
  await bySession.closed;

  await app.signIn({ port: host.plainPort });
  const overdue = await stream(headers());
  await app.database.query(`update session set expires_at = now() - interval '1 second'`);
  await app.database.query(`select pg_notify('tamsel_event', '')`);
  await overdue.closed;
  await app.database.query(`update session set expires_at = now() + interval '1 hour'`);
  app.cookie = own;
});

test('what cannot be there is not there, and what cannot be read is said; nothing of it is a fault of ours', async () => {
  const paths = [
    'abc',
    'NaN',
    '0',
    '-1',
    '1.5',
    '99999999999999999999',
    '4294967296',
    '%00',
    '1%00',
    '%ff',
    '1e3',
    'Infinity',
  ];
  const below = ['runs', 'scans', 'lots', 'messages', 'guards', 'searches', 'tokens', 'sessions', 'criteria'];
  for (const path of paths)
    for (const folder of below)
      for (const method of ['GET', 'DELETE', 'PATCH']) {
        const { status } = await app.call(method, `${account}/${folder}/${path}`, method === 'PATCH' ? {} : undefined);
        assert.ok([404, 405].includes(status), `${method} ${folder}/${path}: ${status}`);
      }
  for (const [method, path, body] of [
    ['GET', '/senders/%00/newest?by=address', undefined],
    ['POST', '/lots', { where: 'subject ~ "a\u0000b"' }],
    ['POST', '/lots', { where: 'all', label: 'a\u0000b' }],
    ['POST', '/runs', { action: 'trash', run: 99_999_999_999 }],
    ['POST', '/runs', { action: 'trash', ids: [9_007_199_254_740_991] }],
    ['GET', '/messages?where=subject%20~%20%22%00%22', undefined],
    ['GET', '/messages?limit=-1', undefined],
    ['GET', '/messages?cursor=%00', undefined],
  ] as const) {
    const { status } = await app.call(method, account + path, body);
    assert.ok(status < 500, `${method} ${path}: ${status}`);
  }
  for (const name of ['fe80::1%eth0', '[::1', 'a\u0000b', '..', '%', 'x'.repeat(253)]) {
    const place = { host: name, port: 143, security: 'tls', user: 'u', password: 'p' };
    const { status } = await app.call('POST', '/session', place);
    assert.ok([422, 429].includes(status), `${name}: ${status}`);
  }
});

test('security headers are on every answer, also on what the framework never sees', async () => {
  const wanted = [
    'content-security-policy',
    'x-content-type-options',
    'referrer-policy',
    'cross-origin-opener-policy',
    'cross-origin-resource-policy',
    'permissions-policy',
    'cache-control',
  ];
  for (const [method, path, status] of [
    ['GET', '/', undefined],
    ['GET', '/sign-in', undefined],
    ['GET', '/nowhere/at/all', 404],
    ['GET', '/api/nowhere', 404],
    ['GET', '/api/health', 200],
    ['GET', `/api${account}/level`, 200],
    ['PUT', '/api/session', 405],
    ['OPTIONS', '/', 405],
    ['GET', '/%', undefined],
    ['GET', '/..%2f..%2fpackage.json', 404],
  ] as const) {
    const answer = await fetch(app.origin + path, { method, headers: { cookie: app.cookie }, redirect: 'manual' });
    for (const name of wanted) assert.ok(answer.headers.has(name), `${method} ${path}: ${name}`);
    assert.equal(answer.headers.get('cache-control'), 'no-store', path);
    if (status) assert.equal(answer.status, status, path);
    assert.ok(answer.status < 500, path);
  }
  const page = await (await fetch(`${app.origin}/sign-in`)).text();
  const script = /\/_astro\/[\w.-]+\.js/.exec(page)?.[0] ?? '';
  const file = await fetch(app.origin + script);
  assert.match(file.headers.get('cache-control') ?? '', /immutable/);
  assert.ok(file.headers.has('content-security-policy'));
  for (const raw of [
    'TRACE / HTTP/1.1\r\nHost: x\r\n\r\n',
    'nonsense\r\n\r\n',
    `GET /${'a'.repeat(100_000)} HTTP/1.1\r\n\r\n`,
  ]) {
    const socket = connect(Number(new URL(app.origin).port), '127.0.0.1');
    socket.end(raw);
    let answer = '';
    for await (const chunk of socket) answer += chunk;
    assert.match(answer, /^HTTP\/1\.1 4\d\d /, raw.slice(0, 20));
    assert.match(answer, /content-security-policy/i);
  }
});

test('a mail made to freeze whoever reads it is read, or not, and nobody else waits', async () => {
  const folder = host.mailbox.folder('INBOX') as never;
  const shapes: [string, string][] = [
    ['<'.repeat(200_000), 'signs of tags'],
    [`${'<div>'.repeat(20_000)}deep${'</b>'.repeat(20_000)}`, 'deep'],
    ['&#82;ead &amp; <b>done</b>', 'Read & done'],
  ];
  for (const [html] of shapes) {
    const message = `From: Bee Forum <a@beeforum.example>\r\nSubject: Freeze\r\nContent-Type: text/html\r\n\r\n${html}`;
    host.mailbox.append(folder, Buffer.from(message), 1_700_000_000, []);
  }
  assert.equal((await app.scanned(account, true)).state, 'done');
  const { messages } = (await app.call('GET', `${account}/messages?where=subject%20~%20Freeze`)).body;
  assert.equal(messages.length, shapes.length);
  const texts: string[] = [];
  for (const { id } of messages) {
    const reading = fetch(`${app.origin}/api${account}/messages/${id}/text`, { headers: headers() });
    assert.equal((await app.call('GET', '/health')).status, 200);
    const answer = await reading;
    assert.equal(answer.status, 200);
    texts.push(await answer.text());
  }
  assert.ok(texts.includes('Read & done'));
  assert.ok(texts.includes('deep'));
});
