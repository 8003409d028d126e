import assert from 'node:assert/strict';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { connectImap } from '../../src/mail/imap/connect';
import { ManageSieve } from '../../src/mail/managesieve/client';
import type { MailProblem } from '../../src/mail/problem';
import { Vault } from '../../src/store/access/vault';
import { type AuthorizationServer, MAIL_HOST, SECRET_CLIENTS } from '../../stand-in/authorization/server';
import type { StandIn } from '../../stand-in/host';
import { FileSpaceServer } from '../../stand-in/webdav/server';
import { FileTree } from '../../stand-in/webdav/tree';
import { authorizationFile, startAuthorization, Visitor } from '../authorizing';
import { DOVECOT_PASSWORD, DOVECOT_USER, startDovecot } from '../dovecot';
import { addSpace, listed, plainFile } from '../file-space';
import {
  type Answer,
  App,
  cleanUp,
  hosted,
  indexed,
  later,
  PASSWORD,
  startStandIn,
  temporaryFolder,
  tinyScenario,
  USER,
  until,
} from '../harness';
import { Relay } from '../relay';

after(cleanUp);

/** Of several folders, so that a run over it has a middle. */
const SEVERAL = '(folder = INBOX or folder = Offers or folder = Photographs or under = Committee) and not guarded';

/** Begins an authorization, in a browser that is only this test's. */
async function begun(app: App, at: object): Promise<{ url: string; cookie: string }> {
  const place = { host: '127.0.0.1', security: 'none', user: USER, ...at };
  const answer = await app.call('POST', '/authorizations', place);
  assert.equal(answer.status, 201, JSON.stringify(answer.body));
  return { url: answer.body.url, cookie: cookieOf(answer) };
}

function cookieOf({ headers }: Answer): string {
  return headers
    .getSetCookie()
    .map((cookie) => cookie.split(';')[0])
    .join('; ');
}

async function finished(app: App, returned: string, cookie: string): Promise<Answer> {
  const query = new URL(returned).search;
  return app.call(
    'POST',
    '/authorizations/finish',
    { query },
    { cookie: [app.cookie, cookie].filter(Boolean).join('; ') },
  );
}

/** Keeps the session that an answer gives; gives the path of the account. */
function entered(app: App, answer: Answer | undefined): string {
  assert.equal(answer?.status, 201, JSON.stringify(answer?.body));
  app.cookie = answer.headers.getSetCookie()[0]?.split(';')[0] ?? '';
  return `/accounts/${answer.body.account.id}`;
}

/** All of it: gives the path of the account. */
async function authorized(app: App, host: StandIn): Promise<string> {
  const { url, cookie } = await begun(app, { port: host.plainPort });
  const returned = await new Visitor().decide(url, `${app.origin}/authorized`);
  return entered(app, await finished(app, returned, cookie));
}

async function hosts(
  options: { people?: [string, string][] } = {},
): Promise<{ host: StandIn; authorization: AuthorizationServer; app: App; file: string }> {
  const authorization = await startAuthorization({}, new Map([[USER, PASSWORD], ...(options.people ?? [])]));
  const host = await startStandIn({ scenario: tinyScenario(), authorization });
  host.faults.tokensOnly = true;
  const file = authorizationFile(authorization.issuer);
  return { host, authorization, app: await App.start({ env: { TAMSEL_AUTHORIZATION_FILE: file } }), file };
}

test('a host that takes tokens only is signed in to by an authorization, with OAUTHBEARER or else XOAUTH2', async () => {
  const { host, app } = await hosts();
  assert.deepEqual((await app.call('GET', '/authorizations')).body.hosts, ['127.0.0.1', 'localhost']);
  const refused = await app.call('POST', '/session', {
    host: '127.0.0.1',
    port: host.plainPort,
    security: 'none',
    user: USER,
    password: 'allotment',
  });
  assert.deepEqual([refused.status, refused.body.type], [422, '/problems/no-mechanism']);
  assert.match(refused.body.detail, /OAUTHBEARER and XOAUTH2/);
  const relay = await Relay.before(host.plainPort);
  for (const [hide, said] of [
    [[], /AUTHENTICATE OAUTHBEARER \S+\r$/m],
    [['SASL-IR'], /AUTHENTICATE OAUTHBEARER\r$/m],
    [['AUTH=OAUTHBEARER'], /AUTHENTICATE XOAUTH2 \S+\r$/m],
    [['AUTH=OAUTHBEARER', 'SASL-IR'], /AUTHENTICATE XOAUTH2\r$/m],
  ] as const) {
    host.faults.hide = [...hide];
    relay.said = '';
    const { url, cookie } = await begun(app, { port: relay.port });
    const asked = new URL(url).searchParams;
    // PKCE (RFC 7636), with the hash and not in plain.
    assert.equal(asked.get('code_challenge_method'), 'S256');
    const answer = await finished(app, await new Visitor().decide(url, `${app.origin}/authorized`), cookie);
    assert.equal(answer.status, 201, JSON.stringify(answer.body));
    assert.match(relay.said, said);
    const access = { host: '127.0.0.1', port: host.plainPort, security: 'none', user: USER, token: 'made-up' } as const;
    await assert.rejects(connectImap(access, { allowPrivate: true, caFile: undefined }), {
      kind: 'token-refused',
    } as MailProblem);
  }
});

test('an answer counts once, in the browser that asked, for what was asked; a refusal is told in the server’s words', async () => {
  const { host, app } = await hosts();
  const { url, cookie } = await begun(app, { port: host.plainPort });
  const returned = await new Visitor().decide(url, `${app.origin}/authorized`);
  assert.equal((await finished(app, returned, '')).body.type, '/problems/no-authorization');
  const other = await begun(app, { port: host.plainPort });
  // The other browser's own state is not this one's: login by another's answer is refused.
  assert.equal((await finished(app, returned, other.cookie)).body.type, '/problems/authorization-refused');
  assert.equal((await finished(app, returned, cookie)).status, 201);
  assert.equal((await finished(app, returned, cookie)).body.type, '/problems/no-authorization');
  const mixed = await begun(app, { port: host.plainPort });
  const answered = new URL(await new Visitor().decide(mixed.url, `${app.origin}/authorized`));
  // Another authorization server's answer is none to this request (RFC 9207).
  answered.searchParams.set('iss', 'https://elsewhere.example');
  assert.equal((await finished(app, answered.href, mixed.cookie)).body.type, '/problems/authorization-refused');
  const denied = await begun(app, { port: host.plainPort });
  const back = await new Visitor().decide(denied.url, `${app.origin}/authorized`, { choice: 'refuse' });
  const answer = await finished(app, back, denied.cookie);
  assert.equal(answer.status, 422);
  assert.match(answer.body.detail, /gave no authorization: it said: “The person refused”/);
  const nowhere = await app.call('POST', '/authorizations', {
    host: 'mail.elsewhere.example',
    port: 993,
    security: 'tls',
    user: USER,
  });
  assert.deepEqual([nowhere.status, nowhere.body.errors[0].field], [422, 'host']);
});

test('an authorization for somebody else is refused by the mail server, and taken back where it came from', async () => {
  const { host, app, authorization } = await hosts({ people: [['treasurer@saltmarshlane.example', 'scales']] });
  const { url, cookie } = await begun(app, { port: host.plainPort });
  const typed = { user: 'treasurer@saltmarshlane.example', password: 'scales' };
  const answer = await finished(app, await new Visitor().decide(url, `${app.origin}/authorized`, typed), cookie);
  assert.deepEqual([answer.status, answer.body.type], [422, '/problems/token-refused']);
  assert.match(answer.body.detail, new RegExp(`for ${USER}. Was it given for that mailbox\\?`));
  assert.equal(authorization.refreshTokens, 0);
  assert.equal((await app.database.query('select 1 from session')).rowCount, 0);
});

test('by a code on another device: waited for, no sooner asked than allowed, and signed in', async () => {
  const { host, app, authorization } = await hosts();
  const place = { host: '127.0.0.1', port: host.plainPort, security: 'none', user: USER };
  const answer = await app.call('POST', '/authorizations/device', place);
  assert.equal(answer.status, 201, JSON.stringify(answer.body));
  const { code, url } = answer.body;
  const cookie = cookieOf(answer);
  const ask = () => app.call('POST', '/authorizations/device/finish', {}, { cookie });
  assert.equal((await ask()).status, 202);
  assert.deepEqual(authorization.grants, [], 'asked before the interval had passed');
  const telephone = new Visitor();
  const form = await telephone.open(url, 'none');
  const xsrf = /name="xsrf" value="([^"]+)"/.exec(form.text)?.[1] ?? '';
  const confirm = await telephone.open(form.url, 'none', { xsrf, user_code: code });
  assert.match(confirm.text, new RegExp(code));
  const login = await telephone.open(form.url, 'none', { xsrf, user_code: code, confirm: 'yes' });
  const done = await telephone.open(login.url, 'none', { user: USER, password: 'allotment', choice: 'allow' });
  assert.match(done.text, /may go on/);
  let last: Answer | undefined;
  await until(async () => {
    last = await ask();
    return last.status === 201;
  });
  assert.equal((await app.scanned(entered(app, last))).state, 'done');
});

test('confidential clients over HTTPS, with metadata or with endpoints that stand in the file', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const authorization = await startAuthorization({ tls: host.identity });
  const { issuer } = authorization;
  const endpoints = {
    authorization: `${issuer}/auth`,
    token: `${issuer}/token`,
    deviceAuthorization: `${issuer}/device/auth`,
  };
  const { basic, post } = SECRET_CLIENTS;
  for (const [file, status] of [
    [{ clientId: basic.id, clientSecret: basic.secret }, 201],
    [{ clientId: post.id, clientSecret: post.secret, secretBy: 'post', endpoints }, 201],
    [{ clientId: post.id, clientSecret: 'of nobody', secretBy: 'post' }, 422],
  ] as const) {
    const env = { TAMSEL_AUTHORIZATION_FILE: authorizationFile(issuer, file) };
    const app = await App.start({ env, authority: host.authority, worker: false });
    const { url } = await begun(app, { port: host.plainPort });
    assert.equal(new URL(url).origin, issuer);
    // Here the client itself asks, and shows who it is.
    const place = { host: '127.0.0.1', port: host.plainPort, security: 'none', user: USER };
    const answer = await app.call('POST', '/authorizations/device', place);
    assert.equal(answer.status, status, JSON.stringify(answer.body));
    const untrusting = await App.start({ env, worker: false });
    const unknown = await untrusting.call('POST', '/authorizations/device', place);
    assert.equal(unknown.body.type, '/problems/authorization-unreachable');
  }
});

test('tokens that run out during a scan and a run are renewed, by one asker at a time, and nothing is missed', async () => {
  const { host, app, authorization } = await hosts();
  const runOut = () => {
    authorization.endAccessTokens();
    host.endTokens();
  };
  host.faults.latencyMs = 60;
  const account = await authorized(app, host);
  const path = `${account}/scans/last`;
  // Three connections read; each says goodbye, and each asks for a new token.
  await until(async () => (await app.call('GET', path)).body.stage === 'details');
  runOut();
  const scan = await app.finished(path);
  assert.equal(scan.state, 'done', JSON.stringify(scan));
  assert.deepEqual(await indexed(app, account), hosted(host));
  host.faults.latencyMs = 250;
  const started = await app.call('POST', `${account}/runs`, { action: 'trash', where: SEVERAL });
  const going = `${account}/runs/${started.body.id}`;
  await until(async () => (await app.call('GET', going)).body.done.messages > 0);
  runOut();
  host.faults.latencyMs = 0;
  const run = await app.finished(going);
  assert.deepEqual([run.state, run.left, run.done], ['done', [], run.asked]);
  // The server takes all back when a refresh token is used twice, so none was.
  const renewed = authorization.grants.filter((grant) => grant !== 'authorization_code given');
  assert.ok(renewed.length >= 2, renewed.join());
  assert.deepEqual(new Set(renewed), new Set(['refresh_token given']));
});

test('Dovecot takes what our OAUTHBEARER and XOAUTH2 say, for mail and for rules, by the introspection of the authorization server', async () => {
  const authorization = await startAuthorization({}, new Map([[DOVECOT_USER, DOVECOT_PASSWORD]]));
  const { host: place } = new URL(authorization.issuer);
  const introspection = `http://${MAIL_HOST.id}:${MAIL_HOST.secret}@${place}/token/introspection`;
  const dovecot = await startDovecot(10, [], introspection, 'all');
  const app = await App.start({ env: { TAMSEL_AUTHORIZATION_FILE: authorizationFile(authorization.issuer) } });
  const at = { host: '127.0.0.1', port: dovecot.plainPort, security: 'none', user: DOVECOT_USER } as const;
  const { url, cookie } = await begun(app, at);
  const typed = { user: DOVECOT_USER, password: DOVECOT_PASSWORD };
  const answer = await finished(app, await new Visitor().decide(url, `${app.origin}/authorized`, typed), cookie);
  const scan = await app.scanned(entered(app, answer));
  assert.equal(scan.state, 'done', JSON.stringify(scan));
  const { rows } = await app.database.query('select sealed from credential');
  const kept = new Vault([Buffer.from(readFileSync(app.keyFile, 'utf8').trim(), 'hex')]).unseal(
    `credential ${JSON.stringify([answer.body.account.id, at.host, at.port, at.security, at.user, ''])}`,
    rows[0].sealed,
  );
  const token = JSON.parse(kept ?? '').tokens.access;
  const outbound = { allowPrivate: true, caFile: undefined };
  for (const hide of ['', ' AUTH=OAUTHBEARER']) {
    const relay = await Relay.before(dovecot.plainPort);
    relay.unsaid = hide;
    await (await connectImap({ ...at, port: relay.port, token }, outbound)).close();
    assert.match(relay.said, hide ? /AUTHENTICATE XOAUTH2/ : /AUTHENTICATE OAUTHBEARER/);
    const kind = { kind: 'token-refused' };
    await assert.rejects(connectImap({ ...at, port: relay.port, token: 'made-up' }, outbound), kind);
    await assert.rejects(connectImap({ ...at, port: relay.port, user: 'somebody', token }, outbound), kind);
  }
  // The same for rules.
  for (const hide of ['', ' OAUTHBEARER']) {
    const relay = await Relay.before(dovecot.sievePort);
    relay.unsaid = hide;
    const connecting = (shown: string, user: string = DOVECOT_USER) =>
      ManageSieve.connect({ ...at, port: relay.port }, user, { token: shown }, outbound);
    const server = await connecting(token);
    assert.deepEqual(await server.scripts(), []);
    await server.close();
    assert.ok(relay.said.startsWith(`AUTHENTICATE "${hide ? 'XOAUTH2' : 'OAUTHBEARER'}"`), relay.said);
    await assert.rejects(connecting('made-up'), { kind: 'token-refused' });
    await assert.rejects(connecting(token, 'somebody'), { kind: 'token-refused' });
  }
});

test('tokens that are taken back lock the account; after a new authorization the run ends as if undisturbed', async () => {
  const { host, app, authorization } = await hosts();
  const account = await authorized(app, host);
  await app.scanned(account);
  host.faults.latencyMs = 250;
  const started = await app.call('POST', `${account}/runs`, { action: 'trash', where: SEVERAL });
  const path = `${account}/runs/${started.body.id}`;
  await until(async () => (await app.call('GET', path)).body.done.messages > 0);
  authorization.withdrawAll();
  host.dropAll();
  host.faults.latencyMs = 0;
  const stopped = await app.finished(path);
  assert.deepEqual([stopped.state, stopped.problem.kind], ['failed', 'sign-in-needed']);
  const { accounts } = (await app.call('GET', '/session')).body;
  assert.equal(accounts[0].state, 'locked');
  assert.equal(await authorized(app, host), account);
  const ended = await app.finished(path);
  assert.deepEqual([ended.state, ended.left, ended.done], ['done', [], ended.asked]);
  assert.deepEqual((await indexed(app, account)).Trash?.messages, host.mailbox.folder('Trash')?.messages.length);
});

test('tokens that cannot be renewed from here, since the operator took the registration away, lock the account too', async () => {
  const { host, app, authorization, file } = await hosts();
  const account = await authorized(app, host);
  await app.scanned(account);
  writeFileSync(file, '[]');
  await app.restarted();
  authorization.endAccessTokens();
  const scan = await app.scanned(account, true);
  assert.deepEqual([scan.state, scan.problem.kind], ['failed', 'sign-in-needed']);
  assert.equal((await app.call('GET', '/session')).body.accounts[0].state, 'locked');
});

test('an authorization server that is down for a while delays, and locks nothing; signing out takes the tokens back', async () => {
  const { host, app, authorization } = await hosts();
  const account = await authorized(app, host);
  await app.scanned(account);
  authorization.isDown = true;
  authorization.endAccessTokens();
  const { body: scan } = await app.call('POST', `${account}/scans`, {});
  const path = `${account}/scans/${scan.id}`;
  await until(async () => (await app.call('GET', path)).body.problem?.kind === 'authorization-unreachable');
  authorization.isDown = false;
  assert.equal((await app.finished(path)).state, 'done');
  assert.ok(authorization.refreshTokens > 0);
  assert.equal((await app.call('DELETE', '/session')).status, 204);
  await until(() => authorization.refreshTokens === 0);
  // So are those in whose place a password comes.
  await authorized(app, host);
  assert.ok(authorization.refreshTokens > 0);
  host.faults.tokensOnly = false;
  await app.signIn({ port: host.plainPort });
  await until(() => authorization.refreshTokens === 0);
  await app.call('DELETE', '/session');
  const { rows } = await app.database.query(
    'select (select count(*) from credential) as kept, (select count(*) from withdrawal) as due',
  );
  assert.deepEqual(rows, [{ kept: 0, due: 0 }]);
});

test('a file of clients that is wrong, or open to others, is refused at the start, and says where', async () => {
  const { outboundConfigFrom } = await import('../../src/mail/outbound-config');
  const path = join(temporaryFolder(), 'authorization.json');
  const client = {
    hosts: ['imap.post.example'],
    issuer: 'https://accounts.post.example',
    clientId: 'x',
    scope: 'mail',
  };
  const wrong = (text: string, why: RegExp, mode = 0o600) => {
    writeFileSync(path, text, { mode });
    assert.throws(() => outboundConfigFrom({ TAMSEL_AUTHORIZATION_FILE: path }), why);
  };
  wrong(JSON.stringify([{ ...client, issuer: 'http://accounts.post.example' }]), /0\.issuer.*https/);
  wrong(JSON.stringify([{ ...client, hosts: [] }]), /0\.hosts/);
  wrong(JSON.stringify([{ ...client, clientID: 'x' }]), /0\.clientID/);
  wrong('[', /JSON/);
});

test('a file space is shown the token of the mailbox, and the next one where it takes that no more', async () => {
  const authorization = await startAuthorization();
  const host = await startStandIn({ scenario: tinyScenario(), authorization });
  const tree = new FileTree([plainFile('a/first', 10)], [], undefined);
  const space = await FileSpaceServer.start({
    tree,
    user: USER,
    password: 'of no use',
    authorization,
    room: host.mailbox,
  });
  later(() => space.stop());
  const app = await App.start({ env: { TAMSEL_AUTHORIZATION_FILE: authorizationFile(authorization.issuer) } });
  const account = await authorized(app, host);
  await app.scanned(account);
  const path = await addSpace(app, account, space);
  assert.equal((await listed(app, account)).own.files, 1);
  // The token has run out before its time, as far as anybody was told.
  authorization.endAccessTokens();
  tree.put('/files/second', Buffer.alloc(5), 'text/plain');
  await app.call('POST', `${path}/listings`);
  const again = await listed(app, account);
  assert.deepEqual([again.listing.state, again.own.files, again.problem], ['done', 2, undefined]);
  // Where none comes any more, it says so, and what was known stays.
  space.faults.refuse = { method: 'PROPFIND', status: 401, times: 99 };
  await app.call('POST', `${path}/listings`);
  const refused = await listed(app, account);
  assert.deepEqual([refused.listing.state, refused.state, refused.own.files], ['failed', 'locked', 2]);
});
