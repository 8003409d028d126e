import assert from 'node:assert/strict';
import { writeFileSync } from 'node:fs';
import type { RequestListener } from 'node:http';
import { createServer } from 'node:https';
import { type AddressInfo, createServer as createTcpServer } from 'node:net';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { discoverSpaces } from '../../src/dav/discover';
import { readConfig } from '../../src/mail/discovery/config';
import { discover, PORTS, type Ports } from '../../src/mail/discovery/discover';
import { answersImap } from '../../src/mail/discovery/probe';
import { discoverSubmission } from '../../src/mail/discovery/submission';
import type { OutboundConfig } from '../../src/mail/outbound-config';
import { certificates } from '../../stand-in/certificates';
import { NameServer, type Records } from '../../stand-in/dns';
import { App, cleanUp, later, PASSWORD, startStandIn, temporaryFolder, tinyScenario, USER } from '../harness';

after(cleanUp);

const DOMAIN = 'saltmarshlane.example';
const here = (name: string) => ({ type: 'A', name, ttl: 1, data: '127.0.0.1' }) as const;
const service = (name: string, target: string, port: number, priority = 0, weight = 0) =>
  ({ type: 'SRV', name, ttl: 1, data: { target, port, priority, weight } }) as const;

async function names(records: Records): Promise<NameServer> {
  const server = await NameServer.start(records);
  later(() => server.stop());
  return server;
}

function outbound(dns: NameServer, more: Partial<OutboundConfig> = {}): OutboundConfig {
  return { allowPrivate: true, caFile: undefined, dns: [dns.address], ...more };
}

/** A web server for the names of the domain, and the file of its authority. */
async function webServer(listener: RequestListener): Promise<{ port: number; caFile: string }> {
  const { authority, certificate, key } = await certificates(undefined);
  const caFile = join(temporaryFolder(), 'authority.pem');
  writeFileSync(caFile, authority);
  const server = createServer({ cert: certificate, key }, listener);
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  later(() => server.closeAllConnections());
  later(() => server.close());
  return { port: (server.address() as AddressInfo).port, caFile };
}

const config = (servers: string) => `<?xml version="1.0"?><clientConfig version="1.1"><emailProvider id="x">
  <domain>${DOMAIN}</domain>${servers}
  <outgoingServer type="smtp"><hostname>smtp.${DOMAIN}</hostname><port>465</port></outgoingServer>
</emailProvider></clientConfig>`;
const incoming = (type: string, host: string, port: string, socket: string, user = '%EMAILADDRESS%') =>
  `<incomingServer type="${type}"><hostname>${host}</hostname><port>${port}</port><socketType>${socket}</socketType><username>${user}</username></incomingServer>`;

test('SRV records lead to the servers, TLS first, by priority; a domain that says it has none has none (RFC 6186, 8314, 2782)', async () => {
  const [tls, plain] = [`_imaps._tcp.${DOMAIN}`, `_imap._tcp.${DOMAIN}`];
  const dns = await names({
    [tls]: [
      service(tls, `b.${DOMAIN}`, 993, 20),
      service(tls, `A.${DOMAIN}.`, 994, 10),
      service(tls, '-_ no name', 1, 0),
    ],
    [plain]: [service(plain, 'mail.elsewhere.example', 143)],
  });
  assert.deepEqual(await discover(USER, outbound(dns)), [
    { host: `a.${DOMAIN}`, port: 994, security: 'tls', user: USER, how: 'dns' },
    { host: `b.${DOMAIN}`, port: 993, security: 'tls', user: USER, how: 'dns' },
    { host: 'mail.elsewhere.example', port: 143, security: 'starttls', user: USER, how: 'dns' },
  ]);
  dns.records = { [tls]: [service(tls, '.', 0)], [plain]: [service(plain, '.', 0)] };
  assert.deepEqual(await discover(USER, outbound(dns)), []);
  const many = Array.from({ length: 30 }, (_, index) => service(tls, `s${index}.${DOMAIN}`, 993, index));
  dns.records = { [tls]: many };
  assert.ok((await discover(USER, outbound(dns))).length <= 8);
  for (const nonsense of ['', '@', 'nobody', '@x.example', 'a@', 'a@b', 'a@b..example', 'a@127.0.0.1:80/x'])
    assert.deepEqual(await discover(nonsense, outbound(dns)), [], nonsense);
});

test('the operator’s list goes before all else, and what it says of user names is kept to', async () => {
  const dns = await names({});
  const servers = { [DOMAIN]: { host: 'post.example', port: 993, security: 'tls', user: 'local' } } as const;
  assert.deepEqual(await discover(USER, outbound(dns, { servers })), [
    { host: 'post.example', port: 993, security: 'tls', user: 'secretary', how: 'list' },
  ]);
  assert.deepEqual(dns.asked, []);
});

test('what a domain publishes as config-v1.1.xml is found, over redirects; what is hostile is refused', async () => {
  let answer: RequestListener = () => undefined;
  const { port, caFile } = await webServer((request, response) => answer(request, response));
  const dns = await names({ [`autoconfig.${DOMAIN}`]: [here(`autoconfig.${DOMAIN}`)], [DOMAIN]: [here(DOMAIN)] });
  const ports: Ports = { ...PORTS, https: port, imaps: 1, imap: 1 };
  const found = () => discover(USER, outbound(dns, { caFile }), ports);
  const good = config(
    incoming('pop3', `pop.${DOMAIN}`, '995', 'SSL') +
      incoming('imap', 'IMAP.%EMAILDOMAIN%', '993', 'SSL', '%EMAILLOCALPART%'),
  );
  answer = ({ url, headers }, response) => {
    if (
      headers.host === `autoconfig.${DOMAIN}:${port}` &&
      url === `/mail/config-v1.1.xml?emailaddress=${encodeURIComponent(USER)}`
    )
      response.writeHead(302, { location: `https://${DOMAIN}:${port}/here` }).end();
    else if (url === '/here') response.end(good);
    else response.writeHead(404).end();
  };
  assert.deepEqual(await found(), [
    { host: `imap.${DOMAIN}`, port: 993, security: 'tls', user: 'secretary', how: 'config' },
  ]);
  const hostile: [string, RequestListener][] = [
    ['a loop', ({ url }, response) => response.writeHead(302, { location: url }).end()],
    ['another protocol', (_, response) => response.writeHead(302, { location: `http://${DOMAIN}:${port}/` }).end()],
    ['a file', (_, response) => response.writeHead(302, { location: 'file:///etc/passwd' }).end()],
    [
      'without end',
      (_, response) => {
        const more = setInterval(() => response.write('x'.repeat(16_000)), 1);
        response.on('close', () => clearInterval(more));
      },
    ],
    [
      'entities',
      (_, response) =>
        response.end(`<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]>${good.replace('993', '&b;')}`),
    ],
    ['no XML', (_, response) => response.end('<clientConfig><emailProvider>')],
    ['an error', (_, response) => response.writeHead(500).end(good)],
  ];
  for (const [what, listener] of hostile) {
    answer = listener;
    assert.deepEqual(await found(), [], what);
  }
  // Without private addresses allowed nothing here is even asked.
  let isAsked = false;
  answer = (_, response) => {
    isAsked = true;
    response.end(good);
  };
  assert.deepEqual(await discover(USER, outbound(dns, { caFile, allowPrivate: false }), ports), []);
  assert.ok(!isAsked);
  assert.deepEqual(
    readConfig(config(incoming('imap', 'x.example', '0', 'SSL') + incoming('imap', 'x.example', '143', 'plain')), USER),
    [],
  );
});

test('a guess is given only where an IMAP server answers, and a name that turns elsewhere is not followed', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const caFile = join(temporaryFolder(), 'authority.pem');
  writeFileSync(caFile, host.authority);
  const dns = await names({ [`mail.${DOMAIN}`]: [here(`mail.${DOMAIN}`)] });
  const ports: Ports = { https: 1, imaps: host.tlsPort, imap: host.plainPort };
  const guess = (more: Partial<OutboundConfig> = {}) => discover(USER, outbound(dns, { caFile, ...more }), ports);
  assert.deepEqual(await guess(), [
    { host: `mail.${DOMAIN}`, port: host.tlsPort, security: 'tls', user: USER, how: 'guess' },
  ]);
  // A certificate that nobody trusts is none; STARTTLS is on offer all the same.
  assert.equal((await guess({ caFile: undefined }))[0]?.security, 'starttls');
  assert.deepEqual(await guess({ allowPrivate: false }), []);
  const web = createTcpServer((socket) => socket.end('HTTP/1.1 400 Bad Request\r\n\r\n'));
  await new Promise<void>((resolve) => web.listen(0, '127.0.0.1', resolve));
  later(() => web.close());
  const port = (web.address() as AddressInfo).port;
  assert.deepEqual(await discover(USER, outbound(dns), { https: 1, imaps: port, imap: port }), []);
  // A name that turns elsewhere between two look-ups: it is looked up once, and that address is connected to.
  let looks = 0;
  dns.records = {
    [`imap.${DOMAIN}`]: (type) =>
      type === 'A' ? [{ ...here(`imap.${DOMAIN}`), data: looks++ === 0 ? '127.0.0.1' : '127.0.0.9' }] : [],
  };
  const turning = { host: `imap.${DOMAIN}`, port: host.tlsPort, security: 'tls' } as const;
  assert.equal(await answersImap(turning, outbound(dns, { caFile })), true);
  assert.equal(looks, 1);
});

test('the API tells what was found and how, and limits how often it is asked', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const name = `_imap._tcp.${DOMAIN}`;
  const dns = await names({
    [name]: [service(name, `mail.${DOMAIN}`, host.plainPort)],
    [`mail.${DOMAIN}`]: [here(`mail.${DOMAIN}`)],
  });
  const app = await App.start({ authority: host.authority, env: { TAMSEL_DNS: dns.address } });
  const asked = await app.call('POST', '/discovery', { address: USER });
  assert.equal(asked.status, 200);
  const [found] = asked.body.servers;
  assert.deepEqual(found, {
    host: `mail.${DOMAIN}`,
    port: host.plainPort,
    security: 'starttls',
    user: USER,
    how: 'dns',
    within: true,
  });
  const { how: _, within: __, ...access } = found;
  const account = await app.signIn({ ...access, password: PASSWORD });
  assert.equal((await app.scanned(account)).state, 'done');
  assert.equal((await app.call('POST', '/discovery', { address: 'nobody' })).status, 422);
  let limited = 0;
  for (let turn = 0; turn < 60 && limited === 0; turn++)
    if ((await app.call('POST', '/discovery', { address: 'a@b' })).status === 429) limited = turn;
  assert.ok(limited > 5, `${limited}`);
});

test('the server that takes mail is found in the same order: the list, SRV, what the domain publishes, a guess that answers', async () => {
  const { port, caFile } = await webServer(({ url }, response) =>
    url?.startsWith('/mail/config-v1.1.xml')
      ? response.end(
          config(incoming('imap', `imap.${DOMAIN}`, '993', 'SSL')).replace(
            '<port>465</port>',
            '<port>465</port><socketType>SSL</socketType>',
          ),
        )
      : response.writeHead(404).end(),
  );
  const greeting = createTcpServer((socket) => socket.end('220 here\r\n250-here\r\n250 STARTTLS\r\n'));
  await new Promise<void>((resolve) => greeting.listen(0, '127.0.0.1', resolve));
  later(() => greeting.close());
  const ports = { https: port, tls: 1, starttls: (greeting.address() as AddressInfo).port };
  const [tls, plain] = [`_submissions._tcp.${DOMAIN}`, `_submission._tcp.${DOMAIN}`];
  const dns = await names({
    [tls]: [service(tls, `out.${DOMAIN}`, 465)],
    [plain]: [service(plain, `plain.${DOMAIN}`, 587)],
    [`autoconfig.${DOMAIN}`]: [here(`autoconfig.${DOMAIN}`)],
    [`mail.${DOMAIN}`]: [here(`mail.${DOMAIN}`)],
  });
  const found = (more: Partial<OutboundConfig> = {}) =>
    discoverSubmission(USER, `imap.${DOMAIN}`, outbound(dns, { caFile, ...more }), ports);
  const submission = { host: 'post.example', port: 587, security: 'starttls', signIn: true } as const;
  const servers = {
    [DOMAIN]: { host: 'imap.example', port: 993, security: 'tls', user: 'address', submission },
  } as const;
  assert.deepEqual(await found({ servers }), submission);
  assert.deepEqual(await found(), { host: `out.${DOMAIN}`, port: 465, security: 'tls', signIn: true });
  // Where the domain says that it has none with TLS, the other one.
  dns.records = { ...dns.records, [tls]: [service(tls, '.', 0)] };
  assert.deepEqual(await found(), { host: `plain.${DOMAIN}`, port: 587, security: 'starttls', signIn: true });
  const { [tls]: _, [plain]: __, ...rest } = dns.records as Record<string, never>;
  dns.records = rest;
  assert.deepEqual(await found(), { host: `smtp.${DOMAIN}`, port: 465, security: 'tls', signIn: true });
  dns.records = { [`mail.${DOMAIN}`]: [here(`mail.${DOMAIN}`)] };
  assert.deepEqual(await found(), { host: `mail.${DOMAIN}`, port: ports.starttls, security: 'starttls', signIn: true });
  dns.records = {};
  assert.equal(await found(), undefined);
});

test('a file space is found by the operator’s list, by SRV and TXT, and by the well-known address, in that order (RFC 6764 §3 to §5)', async () => {
  const name = `_webdavs._tcp.${DOMAIN}`;
  const path = (text: string) => ({ type: 'TXT', name, ttl: 1, data: text }) as const;
  const led: string[] = [];
  const { port, caFile } = await webServer((request, response) => {
    led.push(`${request.method} ${request.headers.host?.split(':')[0]} ${request.url}`);
    if (request.url === '/.well-known/webdav') response.writeHead(307, { location: '/dav/files/' }).end();
    else if (request.url === '/dav/files/') response.writeHead(401).end();
    else response.writeHead(200).end('a page');
  });
  const dns = await names({
    [name]: [service(name, `files.${DOMAIN}`, 8443, 10), service(name, '-_ no name', 1), path('path=/space/')],
    [DOMAIN]: [here(DOMAIN)],
    [`files.${DOMAIN}`]: [here(`files.${DOMAIN}`)],
  });
  const config = outbound(dns, { caFile });
  const listed = {
    host: 'mail',
    port: 993,
    security: 'tls' as const,
    user: 'address' as const,
    files: 'https://files/{user}/',
  };
  assert.deepEqual(await discoverSpaces(USER, { ...config, servers: { [DOMAIN]: listed } }), [
    { address: 'https://files/secretary%40saltmarshlane.example/', how: 'list' },
  ]);
  assert.deepEqual(await discoverSpaces(USER, config), [
    { address: `https://files.${DOMAIN}:8443/space/`, how: 'dns' },
  ]);
  assert.deepEqual(led, [], 'nobody was asked but DNS');
  // Without a path the well-known one is followed; without SRV records that of the domain.
  dns.records[name] = [service(name, `files.${DOMAIN}`, port)];
  assert.deepEqual(await discoverSpaces(USER, config), [
    { address: `https://files.${DOMAIN}:${port}/dav/files/`, how: 'dns' },
  ]);
  dns.records[name] = [];
  assert.deepEqual(await discoverSpaces(USER, config, port), [
    { address: `https://${DOMAIN}:${port}/dav/files/`, how: 'well-known' },
  ]);
  // A web site that answers everything with a page is none; who is no address has none; nor is a private server asked.
  assert.deepEqual(await discoverSpaces('nobody', config, port), []);
  assert.deepEqual(await discoverSpaces(USER, { ...config, allowPrivate: false }, port), []);
});
