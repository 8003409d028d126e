import assert from 'node:assert/strict';
import { createServer, type RequestListener } from 'node:http';
import type { AddressInfo } from 'node:net';
import { after, test } from 'node:test';
import type { SpaceCredential } from './authorization';
import { DavClient } from './client';
import { listCollection } from './listing';

const undo: (() => void)[] = [];
after(() => {
  for (const act of undo) act();
});

/** A client of a server that answers as is said. */
async function talkingTo(
  answer: RequestListener,
  credential: SpaceCredential = { user: 'tern', password: 'seeds' },
): Promise<DavClient> {
  const server = createServer(answer);
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  undo.push(() => server.close());
  const { port } = server.address() as AddressInfo;
  const place = new URL(`http://127.0.0.1:${port}/dav/`);
  const client = await DavClient.open(place, credential, { allowPrivate: true, caFile: undefined });
  undo.push(() => client.close());
  return client;
}

const member = (href: string, properties = '<getcontentlength>5</getcontentlength><resourcetype/>') =>
  `<response><href>${href}</href><propstat><prop>${properties}</prop><status>HTTP/1.1 200 OK</status></propstat></response>`;
const ITSELF = member('/dav/', '<resourcetype><collection/></resourcetype>');
const answer = (...members: string[]) => `<multistatus xmlns="DAV:">${members.join('')}</multistatus>`;

async function listed(text: string, status = 207): Promise<string[]> {
  const client = await talkingTo((_, response) => {
    response.writeHead(status).end(text);
  });
  const found: string[] = [];
  for await (const { path } of listCollection(client, '/dav/')) found.push(path);
  return found;
}

test('members of a folder are listed; what went just now is left out', async () => {
  const gone = '<response><href>/dav/gone</href><status>HTTP/1.1 404 Not Found</status></response>';
  const folder = member('/dav/plans', '<resourcetype><collection/></resourcetype>');
  assert.deepEqual(await listed(answer(ITSELF, member('http://files.example/dav/a'), folder, gone)), [
    '/dav/a',
    '/dav/plans/',
  ]);
});

test('an answer that tells of something else, or not of the folder, or of what can’t be, is an error and never an empty folder', async () => {
  for (const bad of [
    answer(),
    answer(member('/dav/a')),
    answer(ITSELF, member('/other/a')),
    answer(ITSELF, member('/dav/a/b')),
    answer(ITSELF, member('/dav/../etc')),
    answer(ITSELF, member('/dav/%2e%2e/etc')),
    answer(ITSELF, member('/dav/a', '<resourcetype/>')),
    answer(ITSELF, member('/dav/a/')),
    answer(member('/dav/')),
    answer(ITSELF, '<response><href>/dav/a</href><status>HTTP/1.1 500 Oh</status></response>'),
    answer(ITSELF, member('/dav/a')).slice(0, -5),
    '',
    '<html/>',
  ])
    await assert.rejects(listed(bad), { kind: 'unreadable-answer' }, bad);
  for (const [status, kind] of [
    [200, 'not-dav'],
    [302, 'not-dav'],
    [403, 'forbidden'],
    [404, 'gone'],
    [423, 'locked'],
    [503, 'throttled'],
    [507, 'no-room'],
    [500, 'command-refused'],
  ] as const)
    await assert.rejects(listed(answer(ITSELF), status), { kind }, `${status}`);
});

test('a connection that is cut in the middle of an answer is told, after any octet', async () => {
  const whole = answer(ITSELF, member('/dav/a'));
  for (let octets = 0; octets < whole.length; octets += 13) {
    const client = await talkingTo((_, response) => {
      response.writeHead(207, { 'content-length': whole.length });
      response.write(whole.slice(0, octets), () => response.destroy());
    });
    await assert.rejects(
      async () => {
        for await (const { path } of listCollection(client, '/dav/')) assert.equal(path, '/dav/a');
      },
      { kind: 'connection-lost' },
      `${octets}`,
    );
  }
});

test('a listing without end is read no further than who reads it wants', async () => {
  let sent = 0;
  const client = await talkingTo((_, response) => {
    response.writeHead(207);
    response.write(`<multistatus xmlns="DAV:">${ITSELF}`);
    const more = () => {
      while (!response.destroyed && response.write(member(`/dav/${sent++}`)));
      if (!response.destroyed) response.once('drain', more);
    };
    more();
  });
  let read = 0;
  for await (const _ of listCollection(client, '/dav/')) if (++read === 1_000) break;
  assert.equal(read, 1_000);
  assert.ok(sent < 200_000, `${sent} were sent`);
});

test('a password goes in plain only where it is asked for, and is not shown again where it is refused', async () => {
  const shown: (string | undefined)[] = [];
  const client = await talkingTo((request, response) => {
    shown.push(request.headers.authorization?.split(' ')[0]);
    response.writeHead(401, { 'www-authenticate': 'Basic realm="files"' }).end('no');
  });
  await assert.rejects(listCollection(client, '/dav/').next(), { kind: 'password-refused' });
  assert.deepEqual(shown, [undefined, 'Basic']);
  const other = await talkingTo((_, response) => {
    response.writeHead(401, { 'www-authenticate': 'Riddle realm="files"' }).end();
  });
  await assert.rejects(listCollection(other, '/dav/').next(), { kind: 'no-mechanism' });
});

test('a token that is taken no more is renewed once; where there is no other, it is refused', async () => {
  const shown: (string | undefined)[] = [];
  const serving: RequestListener = (request, response) => {
    shown.push(request.headers.authorization);
    if (request.headers.authorization === 'Bearer second')
      response.writeHead(207).end(answer(ITSELF, member('/dav/a')));
    else response.writeHead(401, { 'www-authenticate': 'Bearer error="invalid_token"' }).end();
  };
  const renewing = await talkingTo(serving, { token: 'first', renew: async () => 'second' });
  assert.equal((await listCollection(renewing, '/dav/').next()).value?.path, '/dav/a');
  assert.deepEqual(shown.splice(0), ['Bearer first', 'Bearer second']);
  const spent = await talkingTo(serving, { token: 'first', renew: async () => undefined });
  await assert.rejects(listCollection(spent, '/dav/').next(), { kind: 'password-refused' });
  assert.deepEqual(shown, ['Bearer first']);
});
