import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import sharp from 'sharp';
import { noFaults } from '../../stand-in/faults';
import { pdf } from '../../stand-in/files/document';
import { photograph } from '../../stand-in/files/photograph';
import { claimingPng } from '../claiming-png';
import { DOVECOT_PASSWORD, DOVECOT_USER, dovecotClient, startDovecot } from '../dovecot';
import { letter } from '../fast/letters';
import { App, cleanUp, startStandIn } from '../harness';

after(cleanUp);

/** What a file looks like: the answer, and its octets. */
async function seen(app: App, account: string, file: number, what = 'preview') {
  const answer = await fetch(`${app.origin}/api${account}/files/${file}/${what}`, { headers: { cookie: app.cookie } });
  return {
    status: answer.status,
    type: answer.headers.get('content-type'),
    octets: Buffer.from(await answer.arrayBuffer()),
  };
}

test('files on Dovecot are seen: pictures encoded anew, documents by their first words, all else with its reason', async () => {
  const dovecot = await startDovecot(60);
  const client = dovecotClient(dovecot.plainPort);
  await client.connect();
  const drawing = '<svg xmlns="http://www.w3.org/2000/svg"><script>alert(1)</script></svg>';
  const bare = await sharp({ create: { width: 900, height: 600, channels: 3, background: '#2a6f77' } })
    .png()
    .toBuffer();
  const files = [
    { name: 'open-day.jpg', octets: photograph(11, 700_000) },
    { name: 'bare.png', octets: bare, type: 'image/png' },
    { name: 'huge.png', octets: claimingPng(60_000, 60_000), type: 'image/png' },
    { name: 'drawing.svg', octets: Buffer.from(drawing), type: 'image/svg+xml' },
    { name: 'not-a-picture.jpg', octets: Buffer.alloc(9_000, 7) },
    { name: 'plan.pdf', octets: pdf(2, ['the ditch was dug'], 30_000), type: 'application/pdf' },
    { name: 'broken.pdf', octets: Buffer.from('%PDF-1.7 and no more'), type: 'application/pdf' },
    { name: 'flight.mp4', octets: Buffer.alloc(5_000, 9), type: 'video/mp4' },
  ];
  await client.append('INBOX', letter('files to look at', files), ['\\Seen']);
  const app = await App.start();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  const listed: { id: number; name: string }[] = (await app.call('GET', `${account}/files`)).body.files;
  const idOf = (name: string) => listed.find((file) => file.name === name)?.id ?? 0;
  for (const [name, what, width] of [
    ['open-day.jpg', 'preview', 160],
    ['open-day.jpg', 'preview?size=large', 1280],
    ['bare.png', 'preview', 320],
  ] as const) {
    const { status, type, octets } = await seen(app, account, idOf(name), what);
    assert.deepEqual([status, type], [200, 'image/webp'], name);
    const { format, exif, ...made } = await sharp(octets).metadata();
    assert.deepEqual([format, exif, Math.max(made.width, made.height)], ['webp', undefined, width], `${name} ${what}`);
  }
  const words = await seen(app, account, idOf('plan.pdf'), 'words');
  assert.match(words.octets.toString(), /the ditch was dug/);
  assert.equal(words.type, 'text/plain; charset=utf-8');
  for (const [name, what, reason] of [
    ['huge.png', 'preview', /more points than are decoded/],
    ['drawing.svg', 'preview?size=large', /this format/],
    ['not-a-picture.jpg', 'preview', /this format/],
    ['plan.pdf', 'preview', /this format/],
    ['broken.pdf', 'words', /damaged/],
    ['flight.mp4', 'words', /this format/],
  ] as const) {
    const { status, octets } = await seen(app, account, idOf(name), what);
    const { type, detail } = JSON.parse(octets.toString());
    assert.deepEqual([status, type], [409, '/problems/no-preview'], name);
    assert.match(detail, reason, name);
  }
  assert.equal((await seen(app, account, 512 * 9_999_999)).status, 404);
  // A message that has gone is said to be gone; the connection goes on with the next.
  await client.getMailboxLock('INBOX');
  const [uid] = (await client.search({ all: true }, { uid: true })) as number[];
  await client.messageDelete(`${uid}`, { uid: true });
  assert.equal((await seen(app, account, idOf('not-a-picture.jpg'), 'preview?size=large')).status, 404);
  await client.logout();
});

test('many pictures are asked for over one connection, in any order, and each is made once', async () => {
  const host = await startStandIn();
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const { files } = (await app.call('GET', `${account}/files?where=${encodeURIComponent('kind = picture')}&limit=60`))
    .body;
  assert.equal(files.length, 60);
  host.faults = { ...noFaults(), mostConnections: 1 };
  const made = await Promise.all(files.map(({ id }: { id: number }) => seen(app, account, id)));
  assert.deepEqual(new Set(made.map(({ status }) => status)), new Set([200]));
  host.faults = { ...noFaults(), refuse: { command: 'UID FETCH', code: '', text: 'Not now', times: 100 } };
  const again = await Promise.all(files.map(({ id }: { id: number }) => seen(app, account, id)));
  assert.ok(again.every(({ octets }, at) => octets.equals(made[at]?.octets as Buffer)));
});
