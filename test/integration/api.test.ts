import assert from 'node:assert/strict';
import { createServer } from 'node:net';
import { after, before, test } from 'node:test';
import type { StandIn } from '../../stand-in/host';
import { App, cleanUp, demoScenario, indexed, PASSWORD, startStandIn, USER } from '../harness';

let host: StandIn;
let app: App;
let account: string;

before(async () => {
  host = await startStandIn();
  app = await App.start();
  account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
});
after(cleanUp);

const problem = (answer: { body: { type?: string } }) => answer.body.type;

test('what goes wrong at sign-in is told apart', async () => {
  const kind = async (access: Record<string, unknown>) => {
    const { status, body } = await app.call(
      'POST',
      '/session',
      { host: '127.0.0.1', port: host.plainPort, security: 'none', user: USER, password: PASSWORD, ...access },
      { cookie: '' },
    );
    assert.ok(body.detail.length > 10);
    return `${status} ${body.type}`;
  };
  const silent = createServer((socket) => socket.on('error', () => undefined));
  const http = createServer((socket) => socket.on('error', () => undefined).end('HTTP/1.1 400 Bad Request\r\n\r\n'));
  await Promise.all([silent, http].map((server) => new Promise<void>((done) => server.listen(0, '127.0.0.1', done))));
  const portOf = (server: typeof silent) => (server.address() as { port: number }).port;
  assert.equal(await kind({ host: 'nowhere.invalid' }), '422 /problems/no-such-host');
  assert.equal(await kind({ host: 'no host at all!' }), '422 /problems/invalid');
  assert.equal(await kind({ port: 1 }), '422 /problems/refused');
  assert.equal(await kind({ password: 'wrong' }), '422 /problems/password-refused');
  assert.equal(
    await kind({ host: 'localhost', port: host.tlsPort, security: 'tls' }),
    '422 /problems/untrusted-certificate',
  );
  assert.equal(await kind({ port: portOf(http) }), '422 /problems/not-imap');
  assert.equal(await kind({ port: portOf(silent) }), '422 /problems/timed-out');
  assert.equal(await kind({ port: 'ninety' }), '422 /problems/invalid');
  silent.close();
  http.close();
});

test('TLS and STARTTLS are verified, and trusted with the authority of TAMSEL_CA_FILE', async () => {
  const trusting = await App.start({ authority: host.authority, worker: false });
  await trusting.signIn({ host: 'LocalHost.', port: host.tlsPort, security: 'tls' });
  const { body } = await trusting.call('GET', '/session');
  assert.deepEqual(
    body.accounts.map(({ host }: { host: string }) => host),
    ['localhost'],
  );
  await trusting.signIn({ host: 'localhost', port: host.plainPort, security: 'starttls' });
  assert.equal((await trusting.call('GET', '/session')).body.accounts.length, 2);
  const sealed = await trusting.database.query('select sealed from credential');
  assert.ok(sealed.rows.every((row) => !row.sealed.toString('latin1').includes(PASSWORD)));
  const wary = await App.start({ worker: false, env: { TAMSEL_ALLOW_PRIVATE: '0' } });
  const refused = await wary.call('POST', '/session', {
    host: 'localhost',
    port: host.tlsPort,
    security: 'tls',
    user: USER,
    password: PASSWORD,
  });
  assert.equal(problem(refused), '/problems/address-not-allowed');
  assert.equal((await wary.call('GET', '/health')).status, 503);
});

test('sessions, strangers and foreign pages', async () => {
  const none = { cookie: '' };
  assert.equal((await app.call('GET', '/session', undefined, none)).status, 401);
  assert.equal((await app.call('GET', `${account}/level`, undefined, none)).status, 401);
  assert.equal((await app.call('GET', '/accounts/999/level')).status, 404);
  const other = await startStandIn();
  const stranger = await app.call(
    'POST',
    '/session',
    { host: '127.0.0.1', port: other.plainPort, security: 'none', user: USER, password: PASSWORD },
    none,
  );
  const cookie = stranger.headers.get('set-cookie') ?? '';
  assert.match(cookie, /^tamsel-\d+=[\w-]{43}; Path=\/; HttpOnly; SameSite=Strict/);
  for (const path of [
    'level',
    'messages',
    'senders',
    'lots',
    'runs',
    'settings',
    'scans/last',
    'events',
    'messages/1',
  ]) {
    assert.equal(
      (await app.call('GET', `${account}/${path}`, undefined, { cookie: cookie.split(';')[0] as string })).status,
      404,
      path,
    );
  }
  const foreign = await app.call('GET', '/session', undefined, { origin: 'https://elsewhere.example' });
  assert.deepEqual([foreign.status, problem(foreign)], [403, '/problems/foreign-origin']);
  assert.equal((await app.call('GET', '/session', undefined, { origin: app.origin })).status, 200);
  assert.equal((await app.call('GET', '/health')).body.status, 'ok');
  assert.equal((await app.call('DELETE', '/health')).status, 405);
  const page = await fetch(`${app.origin}/sign-in`);
  const policy = page.headers.get('content-security-policy') ?? '';
  assert.match(policy, /script-src 'self' 'sha256-/);
  assert.doesNotMatch(policy, /unsafe/);
  // A form that is sent before its script runs must not put a password into the address.
  const signIn = await page.text();
  assert.match(signIn, /<form [^>]*method="post"/);
  const place = await fetch(`${app.origin}/trash`, { headers: { cookie: app.cookie } });
  const html = await place.text();
  assert.match(html, /<title>Trash · Tamsel<\/title>/);
  assert.match(html, /96 %/, 'the figures are there before any script');
  assert.doesNotMatch(html, / style="/, 'the policy refuses styles in the page');
  const nowhere = await fetch(`${app.origin}/nowhere`, { headers: { cookie: app.cookie } });
  assert.equal(nowhere.status, 404);
  assert.match(page.headers.get('content-security-policy') ?? '', /frame-ancestors 'none'/);
  assert.equal(page.headers.get('referrer-policy'), 'no-referrer');
  assert.match(page.headers.get('content-type') ?? '', /^text\/html.*charset=utf-8/i);
  const answer = await fetch(`${app.origin}/api/health`);
  assert.equal(answer.headers.get('x-content-type-options'), 'nosniff');
  assert.equal(answer.headers.get('content-disposition'), 'attachment; filename="api.json"');
});

test('lots freeze what was marked; overlaps count once; exceptions and expectations hold', async () => {
  const big = (await app.call('POST', `${account}/lots`, { label: 'big', where: 'size > 100 kB' })).body;
  const sender = (await app.call('POST', `${account}/lots`, { where: 'domain = fenwater.example' })).body;
  const both = (
    await app.call(
      'GET',
      `${account}/messages?limit=1000&where=${encodeURIComponent('size > 100 kB and domain = fenwater.example and not guarded')}`,
    )
  ).body;
  assert.ok(both.total.messages > 0);
  assert.equal(sender.adds.messages, sender.messages - both.total.messages);
  assert.equal(sender.adds.bytes, sender.bytes - both.total.bytes);
  let plan = (await app.call('GET', `${account}/lots`)).body;
  assert.equal(plan.total.bytes, big.bytes + sender.bytes - both.total.bytes);
  assert.equal(plan.lots[0].only.messages, big.messages - both.total.messages);
  const level = (await app.call('GET', `${account}/level`)).body;
  assert.equal(level.after, level.used - plan.total.bytes - (level.trash.bytes - level.trashGuarded.bytes));
  const except = both.messages.map(({ id }: { id: number }) => id);
  const altered = (await app.call('PATCH', `${account}/lots/${big.id}`, { except, label: 'big but some' })).body;
  assert.equal(altered.messages, big.messages - both.total.messages);
  plan = (await app.call('GET', `${account}/lots`)).body;
  assert.equal(plan.total.bytes, big.bytes - both.total.bytes + sender.bytes);
  const refused = await app.call('POST', `${account}/runs`, {
    action: 'trash',
    lots: [big.id],
    expect: { messages: 1, bytes: 1 },
  });
  assert.deepEqual([refused.status, problem(refused)], [409, '/problems/not-as-expected']);
  for (const { id } of plan.lots) assert.equal((await app.call('DELETE', `${account}/lots/${id}`)).status, 204);
  assert.equal((await app.call('DELETE', `${account}/lots/${big.id}`)).status, 404);
});

test('what is wrong in a request is said at its field', async () => {
  const wrong = async (method: string, path: string, body?: unknown) => {
    const answer = await app.call(method, `${account}${path}`, body);
    return [answer.status, problem(answer), answer.body.errors?.[0]?.field];
  };
  assert.deepEqual(await wrong('GET', '/messages?where=size%20%3E%2010%20PB'), [422, '/problems/criteria', 'where']);
  assert.deepEqual(await wrong('GET', '/messages?limit=1001'), [422, '/problems/invalid', 'limit']);
  assert.deepEqual(await wrong('GET', '/messages?after=nonsense'), [422, '/problems/invalid', 'after']);
  assert.deepEqual(await wrong('POST', '/lots', { where: '', ids: [1] }), [422, '/problems/invalid', 'where']);
  assert.deepEqual(await wrong('POST', '/lots', { where: 'subject = "there is no such subject"' }), [
    422,
    '/problems/invalid',
    'where',
  ]);
  assert.deepEqual(await wrong('POST', '/runs', { action: 'purge' }), [422, '/problems/invalid', 'lots']);
  assert.deepEqual(await wrong('POST', '/runs', { action: 'purge', folder: 'Nowhere' }), [
    422,
    '/problems/invalid',
    'folder',
  ]);
  assert.deepEqual(await wrong('PATCH', '/settings', { target: { share: 2 } }), [
    422,
    '/problems/invalid',
    'target.share',
  ]);
  assert.deepEqual(await wrong('PATCH', '/settings', { timeZone: 'Mars/Olympus' }), [
    422,
    '/problems/invalid',
    'timeZone',
  ]);
  assert.deepEqual(await wrong('GET', '/nothing'), [404, '/problems/not-found', undefined]);
});

test('pages of every order hold every message once, in order', async () => {
  for (const order of ['size', 'date', 'from', 'subject']) {
    const seen: { id: number; size: number }[] = [];
    let after = '';
    do {
      const { body } = await app.call(
        'GET',
        `${account}/messages?limit=700&order=${order}${after && `&after=${after}`}`,
      );
      seen.push(...body.messages);
      after = body.next ?? '';
      if (seen.length > 20_000) break;
    } while (after);
    const total = (await app.call('GET', `${account}/messages?limit=1`)).body.total;
    assert.equal(seen.length, total.messages);
    assert.equal(new Set(seen.map(({ id }) => id)).size, total.messages);
    assert.equal(
      seen.reduce((sum, { size }) => sum + size, 0),
      total.bytes,
    );
  }
});

test('senders add up to the messages under the criteria, and their newest are theirs', async () => {
  const where = encodeURIComponent('size > 20 kB and date >= 2022-01-01');
  const total = (await app.call('GET', `${account}/messages?limit=1&where=${where}`)).body.total;
  for (const by of ['address', 'domain']) {
    const { body } = await app.call('GET', `${account}/senders?limit=1000&by=${by}&where=${where}`);
    assert.equal(body.total, body.senders.length);
    assert.equal(
      body.senders.reduce((sum: number, { bytes }: { bytes: number }) => sum + bytes, 0),
      total.bytes,
    );
    const { key, last } = body.senders[0];
    const newest = (await app.call('GET', `${account}/senders/${encodeURIComponent(key)}/newest?by=${by}`)).body;
    assert.ok(newest.length > 0 && newest[0].date >= last);
    const byKey = await app.call('GET', `${account}/newest?by=${by}&key=${encodeURIComponent(key)}`);
    assert.deepEqual(byKey.body, newest);
    assert.deepEqual((await app.call('GET', `${account}/newest?by=${by}&key=..`)).body, []);
  }
});

test('a message shows its header and text, read from the server now, and stays unseen', async () => {
  const { body } = await app.call(
    'GET',
    `${account}/messages?limit=1&where=${encodeURIComponent('unseen and subject ~ weather')}`,
  );
  const { id } = body.messages[0];
  const shown = (await app.call('GET', `${account}/messages/${id}`)).body;
  assert.match(shown.header, /^Auto-Submitted: auto-generated/m);
  assert.equal(shown.bulkFields.precedence, 'bulk');
  assert.match((await app.call('GET', `${account}/messages/${id}/text`)).body, /\S/);
  await app.scanned(account, true);
  assert.ok(!(await app.call('GET', `${account}/messages/${id}`)).body.flags.includes('seen'));
});

test('the OpenAPI document describes every call, and events reach a stream and catch up', async () => {
  const { body } = await app.call('GET', '/openapi.json');
  assert.equal(body.openapi, '3.1.0');
  for (const path of ['/session', '/accounts/{account}/level', '/accounts/{account}/runs/{run}/pause'])
    assert.ok(body.paths[path], path);
  const stop = new AbortController();
  const open = (lastEventId?: string) =>
    fetch(`${app.origin}/api${account}/events`, {
      headers: { cookie: app.cookie, ...(lastEventId ? { 'last-event-id': lastEventId } : {}) },
      signal: stop.signal,
    });
  const read = async (response: Response, wanted: RegExp) => {
    let text = '';
    for await (const chunk of response.body as unknown as AsyncIterable<Uint8Array>) {
      text += Buffer.from(chunk).toString();
      if (wanted.test(text)) return text;
    }
    return text;
  };
  const stream = await open();
  const heard = read(stream, /event: scan\ndata: .*"state":"done"/);
  await app.scanned(account, true);
  const text = await heard;
  const first = /id: (\d+)/.exec(text)?.[1] as string;
  const caughtUp = await read(await open(first), /event: scan\ndata: .*"state":"done"/);
  assert.ok(!caughtUp.includes(`id: ${first}\n`) && caughtUp.includes(`id: ${Number(first) + 1}\n`));
  stop.abort();
});

test('an account is erased with all that was known of it, the mailbox untouched', async () => {
  const before = await indexed(app, account);
  assert.ok(Object.keys(before).length > 20);
  assert.equal((await app.call('DELETE', account)).status, 204);
  for (const table of ['message', 'placement', 'folder', 'run', 'credential']) {
    assert.equal(
      (await app.database.query(`select 1 from ${table} where account = $1`, [account.split('/')[2]])).rowCount,
      0,
      table,
    );
  }
  assert.equal(host.mailbox.messageCount(), demoScenario().messages.length);
  const ended = await app.call('DELETE', '/session');
  assert.equal(ended.status, 204);
  assert.equal(ended.headers.get('clear-site-data'), '"cache"', 'columns that the browser kept go too');
  assert.equal((await app.call('GET', '/session')).status, 401);
});
