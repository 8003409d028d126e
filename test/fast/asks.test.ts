import assert from 'node:assert/strict';
import { generateKeyPairSync } from 'node:crypto';
import { writeFileSync } from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { createServer, type Server } from 'node:https';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import { createTransport } from 'nodemailer';
import { SMTPServer, type SMTPServerOptions } from 'smtp-server';
import { askToStop, failAsks } from '../../src/jobs/unsubscribe/ask';
import { readWays } from '../../src/jobs/unsubscribe/read-ways';
import { signaturesOf } from '../../src/mail/dkim';
import { askByOneClick } from '../../src/mail/one-click';
import type { OutboundConfig } from '../../src/mail/outbound-config';
import { sendAs } from '../../src/mail/send';
import { saveSecret } from '../../src/store/access/credentials';
import { finishJob, takeJob } from '../../src/store/jobs';
import { certificates } from '../../stand-in/certificates';
import { NameServer } from '../../stand-in/dns';
import { cleanUp, later, temporaryFolder } from '../harness';
import { deliver, FakeServer } from './fake-server';
import { given } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

let outbound: OutboundConfig;
let web: Server;
let identity: { key: string; cert: string };
/** What the web server was asked. */
const heard: { path: string; method: string; body: string; headers: IncomingMessage['headers'] }[] = [];
const at = (path: string) => `https://localhost:${(web.address() as AddressInfo).port}/${path}`;

const ANSWERS: Record<string, (response: ServerResponse, request: IncomingMessage) => void> = {
  ok: (response) => response.writeHead(200, { 'set-cookie': 'seen=1' }).end('x'.repeat(500_000)),
  nothing: (response) => response.writeHead(204).end(),
  slow: (response) => setTimeout(() => response.writeHead(200).end(), 1_500),
  fails: (response) => response.writeHead(500).end(),
  refuses: (response) => response.writeHead(404).end(),
  elsewhere: (response) => response.writeHead(302, { location: 'https://localhost:1/other' }).end(),
  again: (response) => response.writeHead(307, { location: at('ok') }).end(),
  // Wants the cookie that it has set before.
  cookie: (response, { headers }) =>
    response.writeHead(headers.cookie ? 200 : 403, { 'set-cookie': 'seen=1' }).end('no cookie'),
  cut: (response) => response.socket?.destroy(),
};

before(async () => {
  const { authority, certificate, key } = await certificates(undefined);
  identity = { key, cert: certificate };
  const caFile = join(temporaryFolder(), 'authority.pem');
  writeFileSync(caFile, authority);
  outbound = { allowPrivate: true, caFile };
  web = createServer(identity, async (request, response) => {
    let body = '';
    for await (const part of request) body += part;
    const path = (request.url ?? '').slice(1);
    heard.push({ path, method: request.method ?? '', body, headers: request.headers });
    ANSWERS[path]?.(response, request);
  });
  await new Promise<void>((resolve) => web.listen(0, '127.0.0.1', resolve));
  later(() => web.close());
});

test('one click is one POST, with no cookie, no referrer and no second try; what answers otherwise is told apart', async () => {
  const outcomes: Record<string, string> = {};
  for (const path of Object.keys(ANSWERS)) outcomes[path] = (await askByOneClick(at(path), outbound)).outcome;
  assert.deepEqual(outcomes, {
    ok: 'taken',
    nothing: 'taken',
    slow: 'taken',
    fails: 'unclear',
    refuses: 'refused',
    elsewhere: 'refused',
    again: 'refused',
    cookie: 'refused',
    cut: 'unclear',
  });
  assert.deepEqual(
    heard.map(({ path }) => path),
    Object.keys(ANSWERS),
    'each was asked once, and no redirect was followed',
  );
  for (const { method, body, headers } of heard) {
    assert.deepEqual([method, body], ['POST', 'List-Unsubscribe=One-Click']);
    assert.equal(headers['content-type'], 'application/x-www-form-urlencoded');
    for (const name of ['cookie', 'referer', 'origin', 'user-agent', 'authorization'])
      assert.equal(headers[name], undefined);
  }
  // Without TLS, at an inner address, behind a certificate that nobody knows, or where nothing listens.
  const outcome = async (uri: string, rules: OutboundConfig) => (await askByOneClick(uri, rules)).outcome;
  assert.equal(await outcome('http://localhost/u', outbound), 'refused');
  const strict = { ...outbound, allowPrivate: false };
  for (const host of ['localhost', '10.0.0.1', '[::ffff:127.0.0.1]', '169.254.169.254', '192.168.1.1'])
    assert.equal(await outcome(`https://${host}/u`, strict), 'not-reached', host);
  assert.equal(await outcome(at('ok'), { allowPrivate: true, caFile: undefined }), 'not-reached');
  assert.equal(await outcome('https://localhost:1/u', outbound), 'not-reached');
  assert.equal(heard.length, Object.keys(ANSWERS).length, 'none of these was heard');
});

/** A submission server that takes what it is shown, on a free port. */
async function submissionServer(options: Partial<SMTPServerOptions>): Promise<{ port: number; taken: string[] }> {
  const taken: string[] = [];
  const server = new SMTPServer({
    ...identity,
    disableReverseLookup: true,
    authMethods: ['PLAIN', 'LOGIN', 'XOAUTH2'],
    onAuth: ({ username, password, accessToken }, _, done) =>
      username === 'tern@mail.example' && (password === 'kept' || accessToken === 'token')
        ? done(null, { user: username })
        : done(new Error('no')),
    onRcptTo: ({ address }, _, done) => done(address.startsWith('nobody') ? new Error('no such list') : null),
    onData(stream, session, done) {
      let text = '';
      stream.on('data', (part: Buffer) => {
        text += part;
      });
      stream.on('end', () => {
        const { mailFrom, rcptTo } = session.envelope;
        taken.push(`${mailFrom ? mailFrom.address : ''} ${rcptTo.map(({ address }) => address)} ${text}`);
        done();
      });
    },
    ...options,
  });
  server.on('error', () => undefined);
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  later(() => new Promise<void>((resolve) => server.close(() => resolve())));
  return { port: (server.server.address() as AddressInfo).port, taken };
}

test('a mail goes through the account’s submission server, over TLS, with its password or its token', async () => {
  const user = 'tern@mail.example';
  const mail = { from: user, to: 'leave@seeds.example', subject: 'u 17', body: 'line one\r\n.\r\nline two' };
  const starttls = await submissionServer({ secure: false });
  const tls = await submissionServer({ secure: true });
  const server = (port: number, security: 'tls' | 'starttls' | 'none', signIn = true) =>
    ({ host: 'localhost', port, security, signIn }) as const;
  assert.deepEqual(await sendAs(user, server(starttls.port, 'starttls'), { password: 'kept' }, mail, outbound), {
    outcome: 'taken',
  });
  assert.deepEqual(await sendAs(user, server(tls.port, 'tls'), { token: 'token' }, mail, outbound), {
    outcome: 'taken',
  });
  for (const [text] of [starttls.taken, tls.taken]) {
    assert.match(text ?? '', /^tern@mail\.example leave@seeds\.example /);
    assert.match(text ?? '', /^Subject: u 17\r$/m);
    assert.match(text ?? '', /line one\r\n\.\r\nline two/);
  }
  const outcome = async (...args: Parameters<typeof sendAs>) => (await sendAs(...args)).outcome;
  assert.equal(await outcome(user, server(tls.port, 'tls'), { password: 'wrong' }, mail, outbound), 'refused');
  assert.equal(
    await outcome(
      user,
      server(tls.port, 'tls'),
      { password: 'kept' },
      { ...mail, to: 'nobody@seeds.example' },
      outbound,
    ),
    'refused',
  );
  assert.equal(
    await outcome(user, server(tls.port, 'tls'), { password: 'kept' }, mail, { ...outbound, allowPrivate: false }),
    'not-reached',
  );
  assert.equal(
    await outcome(user, server(tls.port, 'tls'), { password: 'kept' }, mail, { allowPrivate: true, caFile: undefined }),
    'not-reached',
  );
  // A server that offers no TLS gets no password.
  const plain = await submissionServer({ secure: false, disabledCommands: ['STARTTLS'], allowInsecureAuth: true });
  assert.notEqual(await outcome(user, server(plain.port, 'starttls'), { password: 'kept' }, mail, outbound), 'taken');
  assert.deepEqual(plain.taken, []);
});

test('signatures are verified by a library of others, on mail that another library has signed', async () => {
  const { privateKey, publicKey } = generateKeyPairSync('rsa', { modulusLength: 1_024 });
  const p = publicKey.export({ type: 'spki', format: 'der' }).toString('base64');
  const names = await NameServer.start({
    'k._domainkey.seeds.example': [{ type: 'TXT', name: 'k._domainkey.seeds.example', data: `v=DKIM1; k=rsa; p=${p}` }],
  });
  later(() => names.stop());
  const dns = [names.address];
  const signed = async (headerFieldNames: string): Promise<Buffer> => {
    const transport = createTransport({
      streamTransport: true,
      buffer: true,
      newline: 'windows',
      dkim: {
        domainName: 'seeds.example',
        keySelector: 'k',
        privateKey: privateKey.export({ type: 'pkcs8', format: 'pem' }) as string,
        headerFieldNames,
      },
    });
    const { message } = await transport.sendMail({
      from: 'offers@seeds.example',
      to: 'tern@mail.example',
      subject: 'beans',
      text: 'Beans.',
      headers: {
        'List-Unsubscribe': '<https://seeds.example/u>',
        'List-Unsubscribe-Post': 'List-Unsubscribe=One-Click',
      },
    });
    return message as unknown as Buffer;
  };
  const both = await signed('from:to:subject:list-unsubscribe:list-unsubscribe-post');
  const [signature] = (await signaturesOf(both, { dns })) ?? [];
  assert.deepEqual([signature?.domain, signature?.result], ['seeds.example', 'pass']);
  assert.ok(signature?.covers.includes('list-unsubscribe') && signature.covers.includes('list-unsubscribe-post'));
  const [less] = (await signaturesOf(await signed('from:subject'), { dns })) ?? [];
  assert.deepEqual([less?.result, less?.covers.includes('list-unsubscribe')], ['pass', false]);
  const changed = (from: string, to: string) => Buffer.from(both.toString('latin1').replace(from, to), 'latin1');
  for (const forged of [changed('seeds.example/u', 'forged.example/u'), changed('Beans.', 'Weeds.')])
    assert.notEqual((await signaturesOf(forged, { dns }))?.[0]?.result, 'pass');
  assert.notEqual((await signaturesOf(changed('s=k', 's=n'), { dns }))?.[0]?.result, 'pass', 'without a key');
  const many = Buffer.concat([
    Buffer.from('DKIM-Signature: a=rsa-sha256; d=x.example; s=s; b=; bh=; h=from\r\n'.repeat(20)),
    both,
  ]);
  const asked = names.asked.length;
  assert.equal(await signaturesOf(many, { dns }), undefined);
  assert.equal(names.asked.length, asked, 'no key was asked for');
});

const DAY_MS = 86_400_000;

/** A mailing as a host delivers it, with what the host says of it. */
function mailing(from: string, unsubscribe: string, said = 'pass', received = new Date(Date.now() - DAY_MS)) {
  const domain = from.split('@')[1];
  const h = 'from:list-unsubscribe:list-unsubscribe-post';
  const octets = [
    `Authentication-Results: mail.example; dkim=${said} header.d=${domain}`,
    'Received: from there',
    `DKIM-Signature: v=1; a=rsa-sha256; d=${domain}; s=k; h=${h}; bh=x; b=y`,
    `From: ${from}`,
    'To: tern@mail.example',
    'Subject: offers',
    `Message-ID: <${Math.random()}@${domain}>`,
    `List-Unsubscribe: ${unsubscribe}`,
    'List-Unsubscribe-Post: List-Unsubscribe=One-Click',
    '',
    'Offers.',
    '',
  ].join('\r\n');
  return given(Buffer.from(octets, 'latin1'), {
    received,
    from: { name: '', address: from },
    bulkFields: { 'list-unsubscribe': unsubscribe },
  });
}

async function opened(): Promise<{ mailbox: Mailbox; fake: FakeServer }> {
  const fake = new FakeServer();
  fake.add('INBOX', 'inbox', [
    mailing('a@one.example', `<${at('ok')}>`),
    mailing('b@two.example', '<mailto:leave@two.example?subject=b>'),
    mailing('c@three.example', `<${at('fails')}>`),
    mailing('d@four.example', `<${at('ok')}>`, 'fail'),
    mailing('e@five.example', `<${at('ok')}>`, 'none'),
  ]);
  fake.add('Junk', 'junk', [mailing('f@six.example', `<${at('ok')}>`)]);
  fake.add('Trash', 'trash', []);
  const mailbox = await Mailbox.open(fake);
  await saveSecret(mailbox.database, mailbox.context.vault, mailbox.account.id, { password: 'kept' });
  Object.assign(mailbox.context, { outbound });
  // The senders of these tests are on this machine, and so the mail server has to be.
  Object.assign(mailbox.account, { host: 'localhost' });
  return { mailbox, fake };
}

/** Does what waits of these kinds. */
async function work({ context, database, account, server }: Mailbox): Promise<void> {
  await database.query('update job set lease_until = null, worker = null where done_at is null');
  const job = await takeJob(database, context.worker, 600, { large: true, perHost: 8, suspect: true });
  assert.ok(job);
  const turn = { claimLarge: () => true, progressed: async () => undefined };
  if (job.kind === 'read-ways') await readWays(context, job, account, server, turn);
  else if (job.kind === 'ask-to-stop') await askToStop(context, job, account, turn);
  else await finishJob(database, job);
}

test('senders are read, asked once each, and never where the message is not known to be theirs', async () => {
  const { mailbox, fake } = await opened();
  const before = await mailbox.call('readWays');
  assert.deepEqual([before.senders.length, before.unread, before.reading], [6, 6, true]);
  await work(mailbox);
  const { senders, unread } = await mailbox.call('listBulkSenders');
  const ways = Object.fromEntries(
    senders.map(({ sender, way, why }: any) => [sender, [way, why].filter(Boolean).join(' ')]),
  );
  assert.equal(unread, 0);
  assert.deepEqual(ways, {
    'a@one.example': 'one-click',
    'b@two.example': 'mail',
    'c@three.example': 'one-click',
    'd@four.example': 'none failed-authentication',
    'e@five.example': 'page not-authenticated',
    'f@six.example': 'none in-junk',
  });
  for (const { why, page } of senders)
    if (why === 'in-junk' || why === 'failed-authentication') assert.equal(page, undefined);
  for (const sender of ['d@four.example', 'e@five.example', 'f@six.example', 'unknown@x.example'])
    await assert.rejects(mailbox.call('askToStop', { senders: [sender], expect: 1 }), /can’t ask/);
  await assert.rejects(mailbox.call('askToStop', { senders: ['a@one.example'], expect: 2 }), /would ask 1/);
  heard.length = 0;
  await mailbox.call('askToStop', { senders: ['a@one.example', 'c@three.example'], expect: 2 });
  // One on its way is not taken up a second time.
  await assert.rejects(mailbox.call('askToStop', { senders: ['a@one.example'], expect: 1 }), /would ask 0/);
  await work(mailbox);
  assert.deepEqual(
    heard.map(({ path }) => path),
    ['ok', 'fails'],
  );
  const asked = (await mailbox.call('listBulkSenders')).senders.filter(({ state }: any) => state);
  assert.deepEqual(asked.map(({ sender, state, since }: any) => [sender, state, since?.messages]).sort(), [
    ['a@one.example', 'asked', 0],
    ['c@three.example', 'unclear', 0],
  ]);
  // It went on sending.
  deliver(fake.folder('INBOX'), mailing('a@one.example', `<${at('ok')}>`, 'pass', new Date(Date.now() + 1_000)));
  await mailbox.scan();
  const [first] = (await mailbox.call('listBulkSenders')).senders.filter(
    ({ sender }: any) => sender === 'a@one.example',
  );
  assert.equal(first.since.messages, 1);
  assert.equal(fake.sent.length, 0, 'nothing changes in the mailbox');
});

test('a worker that dies while it asks leaves it unclear, and asks nobody twice', async () => {
  const { mailbox } = await opened();
  await mailbox.call('readWays');
  await work(mailbox);
  heard.length = 0;
  await mailbox.call('askToStop', { senders: ['a@one.example', 'c@three.example'], expect: 2 });
  const { database } = mailbox.context;
  let left = 3;
  // The answer can’t be written down: the third transaction is its.
  const dying = Object.create(database, {
    connect: {
      value: () => {
        if (--left === 0) throw new Error('the worker died');
        return database.connect();
      },
    },
  });
  const whole = { ...mailbox, context: { ...mailbox.context, database: dying } };
  const job = await takeJob(database, mailbox.context.worker, 600, { large: true, perHost: 8, suspect: true });
  assert.ok(job);
  const turn = { claimLarge: () => true, progressed: async () => undefined };
  await assert.rejects(askToStop(whole.context, job, mailbox.account, turn), /the worker died/);
  assert.deepEqual(
    heard.map(({ path }) => path),
    ['ok'],
  );
  await work(mailbox);
  assert.deepEqual(
    heard.map(({ path }) => path),
    ['ok', 'fails'],
  );
  const [first] = (await mailbox.call('listBulkSenders')).senders.filter(
    ({ sender }: any) => sender === 'a@one.example',
  );
  assert.deepEqual([first.state, first.problem.kind], ['unclear', 'worker-died']);
});

test('a mail from outside leads nobody to this machine; what was queued as the work failed can be chosen again', async () => {
  const { mailbox } = await opened();
  await mailbox.call('readWays');
  await work(mailbox);
  heard.length = 0;
  const state = async () =>
    (await mailbox.call('listBulkSenders')).senders.find(({ sender }: any) => sender === 'a@one.example');
  const ask = () => mailbox.call('askToStop', { senders: ['a@one.example'], expect: 1 });
  Object.assign(mailbox.account, { host: 'imap.mail.example' });
  await ask();
  await work(mailbox);
  assert.deepEqual([(await state()).state, (await state()).problem.kind, heard.length], ['failed', 'not-reached', 0]);
  await ask();
  const { context, database } = mailbox;
  const job = await takeJob(database, context.worker, 600, { large: true, perHost: 8, suspect: true });
  assert.ok(job);
  await failAsks(context, job, { kind: 'internal', detail: 'Something went wrong.' });
  assert.deepEqual([(await state()).state, (await state()).problem.kind], ['failed', 'internal']);
  Object.assign(mailbox.account, { host: 'localhost' });
  await ask();
  await work(mailbox);
  assert.deepEqual([(await state()).state, heard.length], ['asked', 1]);
});
