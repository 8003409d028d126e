import assert from 'node:assert/strict';
import { execFile } from 'node:child_process';
import { createHash } from 'node:crypto';
import { mkdirSync, readdirSync, readFileSync, renameSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { promisify } from 'node:util';
import sharp from 'sharp';
import { nameOf } from '../../src/core/space/path';
import { DavClient } from '../../src/dav/client';
import { askSpace, listCollection, type Resource } from '../../src/dav/listing';
import { fileOctets } from '../../stand-in/files/body';
import { photograph } from '../../stand-in/files/photograph';
import { LETTER_LINES } from '../../stand-in/scenario/words';
import { filesIn, listed, startedFileRun, startFileRun } from '../file-space';
import { App, cleanUp, startStandIn, tinyScenario } from '../harness';
import { startApache } from '../servers/apache';

after(cleanUp);

const USER = 'secretary';
const PASSWORD = 'plots & häuser: "12"';
const OUTBOUND = { allowPrivate: true, caFile: undefined };

/** Names with every sign that a path must not have as it is. */
const NAMES = [
  ...[
    'plan.pdf',
    '100 % & more.txt',
    'a#b?c=d.txt',
    'für Möwen 🌱.jpg',
    '<b>"quoted" b.txt',
    "it's.txt",
    'a;b,c+d.txt',
  ],
  ...[
    '.hidden',
    'two..dots',
    'ends in a dot.',
    ' blanks ',
    'back\\slash.txt',
    '%41.txt',
    'tab\there.txt',
    '~',
    'e\u0301.txt',
  ],
];

function fill(folder: string): void {
  for (const [index, name] of NAMES.entries()) writeFileSync(join(folder, name), Buffer.alloc(index * 37, 'x'));
  mkdirSync(join(folder, 'Open day & fête/2023/empty'), { recursive: true });
  for (let index = 0; index < 700; index++)
    writeFileSync(join(folder, 'Open day & fête', `IMG_${index}.jpg`), Buffer.alloc(index));
  writeFileSync(join(folder, 'Open day & fête/2023/film.mp4'), Buffer.alloc(300_000));
}

/** Everything below a collection, with the names as a person reads them. */
async function tree(client: DavClient, path: string, above = ''): Promise<Map<string, Resource>> {
  const found = new Map<string, Resource>();
  for await (const resource of listCollection(client, path)) {
    const name = `${above}${nameOf(resource.path)}`;
    found.set(name, resource);
    if (resource.isCollection) for (const each of await tree(client, resource.path, `${name}/`)) found.set(...each);
  }
  return found;
}

for (const way of ['basic', 'digest'] as const)
  test(`the folder of Debian’s Apache is listed as it is, whatever its names are, signed in by ${way}`, async () => {
    const { url, folder } = await startApache(USER, PASSWORD, way);
    fill(folder);
    const client = await DavClient.open(url, { user: USER, password: PASSWORD }, OUTBOUND);
    const { path, quotaUsed, quotaAvailable, syncToken } = await askSpace(client, '/space/');
    // It keeps no account of room.
    assert.deepEqual([path, quotaUsed, quotaAvailable, syncToken], ['/space/', undefined, undefined, undefined]);
    const found = await tree(client, path);
    const there = readdirSync(folder, { recursive: true, encoding: 'utf8' });
    assert.deepEqual([...found.keys()].sort(), there.sort());
    for (const [name, { bytes, isCollection, etag }] of found) {
      const file = statSync(join(folder, name));
      assert.deepEqual([bytes, isCollection], [file.isDirectory() ? 0 : file.size, file.isDirectory()], name);
      if (!isCollection) assert.match(etag ?? '', /^(W\/)?"[^"]+"$/);
    }
    // curl names the same file by the path that we have for it.
    const { path: odd } = found.get('100 % & more.txt') as Resource;
    const { stdout } = await promisify(execFile)('curl', [
      ...['-sS', way === 'basic' ? '--basic' : '--digest', '-u', `${USER}:${PASSWORD}`, '-o', '/dev/null'],
      ...['-w', '%{http_code} %{size_download}', `${url.origin}${odd}`],
    ]);
    assert.equal(stdout, `200 ${37}`);
    await assert.rejects(askSpace(client, '/space/nowhere/'), { kind: 'gone' });
    await assert.rejects(askSpace(client, odd), { kind: 'not-dav' });
    client.close();
    const stranger = await DavClient.open(url, { user: USER, password: 'wrong' }, OUTBOUND);
    await assert.rejects(askSpace(stranger, '/space/'), { kind: 'password-refused' });
    stranger.close();
  });

test('what lies on Debian’s Apache is summed up as du and find see it, and again after it changed', async () => {
  const { url, folder } = await startApache(USER, PASSWORD, 'digest');
  fill(folder);
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  const added = await app.call('POST', `${account}/spaces`, { address: url.href, user: USER, password: PASSWORD });
  const path = `${account}/spaces/${added.body.id}`;
  const run = promisify(execFile);
  const agrees = async () => {
    const { own, counts } = await listed(app, account);
    // It keeps no account of room, so nobody knows whether it is the same limit.
    assert.equal(counts, null);
    const found = (await run('find', [folder, '-type', 'f', '-printf', '%s %P\\0'])).stdout.split('\0').filter(Boolean);
    const sizes = found.map((line) => Number(line.slice(0, line.indexOf(' '))));
    assert.deepEqual(own, { files: sizes.length, bytes: sizes.reduce((sum, size) => sum + size, 0) });
    const { files } = (await app.call('GET', `${path}/files?limit=1000`)).body;
    assert.deepEqual(files.map((file: any) => `${file.bytes} ${file.path}`).sort(), found.sort());
    const { folders } = (await app.call('GET', `${path}/contents`)).body;
    for (const each of folders) {
      // Of files alone: each folder counts itself with what du gives for it, so these are taken out.
      const below = (await run('du', ['--bytes', '--summarize', join(folder, each.path)])).stdout;
      const itself = (await run('find', [join(folder, each.path), '-type', 'd', '-printf', '%s\\n'])).stdout;
      const ofFolders = itself.split('\n').reduce((sum, size) => sum + Number(size), 0);
      assert.equal(each.total.bytes, Number(below.split('\t')[0]) - ofFolders, each.path);
    }
  };
  await agrees();
  writeFileSync(join(folder, 'Open day & fête/IMG_3.jpg'), Buffer.alloc(5_000));
  rmSync(join(folder, 'Open day & fête/2023'), { recursive: true });
  renameSync(join(folder, 'plan.pdf'), join(folder, 'Open day & fête/plan.pdf'));
  mkdirSync(join(folder, 'new/one'), { recursive: true });
  await app.call('POST', `${path}/listings`);
  await agrees();
});

/** Debian's Apache over a folder, as a file space of a mailbox. */
async function onApache(filled: (folder: string) => void) {
  const { url, folder } = await startApache(USER, PASSWORD, 'basic');
  filled(folder);
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const added = await app.call('POST', `${account}/spaces`, { address: url.href, user: USER, password: PASSWORD });
  const path = `${account}/spaces/${added.body.id}`;
  await listed(app, account);
  const run = promisify(execFile);
  // Apache writes as another user.
  await run('chmod', ['-R', 'a+rwX', folder]);
  /** Every file below a folder, with its SHA-256 before it, as sha256sum sees them. */
  const hashed = async (below = ''): Promise<string[]> => {
    const { stdout } = await run('sh', ['-c', 'find . -type f -print0 | xargs -0 -r sha256sum --zero'], {
      cwd: join(folder, below),
      maxBuffer: 2 ** 24,
    });
    return stdout
      .split('\0')
      .filter(Boolean)
      .map((line) => `${line.slice(0, 64)} ${line.slice(68)}`)
      .sort();
  };
  return { url, folder, app, account, path, run, hashed };
}

test('files on Debian’s Apache go to its trash, come back and are purged; sha256sum and Python’s http.client see the same', async () => {
  const { url, folder, app, account, path, run, hashed } = await onApache(fill);
  const before = await hashed();
  const python = run('python3', [join(import.meta.dirname, 'dav_tree.py')], { maxBuffer: 2 ** 24 });
  python.child.stdin?.end(JSON.stringify({ url: url.href, user: USER, password: PASSWORD }));
  const seen = (await python).stdout
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line) as [string, number, string]);
  assert.deepEqual(seen.map(([hash, , name]) => `${hash} ${name}`).sort(), before);
  const ours = await filesIn(app, path);
  assert.deepEqual(
    [...ours.values()].map(({ bytes, path: name }) => `${bytes} ${name}`).sort(),
    seen.map(([, size, name]) => `${size} ${name}`).sort(),
  );

  // Those with odd names, and one from far below.
  const odd = [...ours.values()].filter((file) => !file.path.includes('IMG_'));
  const moved = await app.finished(await startFileRun(app, path, 'trash', { ids: odd.map(({ id }) => id) }));
  assert.deepEqual([moved.state, moved.left, moved.done.messages], ['done', [], NAMES.length + 1]);
  const [trash] = readdirSync(join(folder, 'Trash'));
  const inTrash = await hashed(`Trash/${trash}`);
  const outside = (await hashed()).filter((line) => !line.slice(65).startsWith('Trash/'));
  assert.equal(inTrash.length, odd.length);
  assert.deepEqual([...inTrash, ...outside].sort(), before, 'every octet is there, under the same name');
  const undone = await app.finished(await startedFileRun(app, path, { action: 'restore', run: moved.id }));
  assert.deepEqual([undone.left, await hashed()], [[], before]);

  const big = [...ours.values()].filter((file) => file.path.includes('IMG_') && file.bytes >= 100);
  const purged = await app.finished(await startFileRun(app, path, 'purge', { ids: big.map(({ id }) => id) }));
  assert.deepEqual([purged.state, purged.left, purged.done.messages], ['done', [], big.length]);
  const gone = new Set(big.map((file) => file.path));
  assert.deepEqual(
    await hashed(),
    before.filter((line) => !gone.has(line.slice(65))),
  );
  assert.deepEqual((await app.call('GET', `${account}/ledger/check`)).body.faults, []);
});

test('attachments are moved to Debian’s Apache, and its pictures are made smaller and come back, octet for octet by sha256sum', async () => {
  const picture = photograph(7, 900_000);
  const { folder, app, account, path, hashed } = await onApache((root) => {
    mkdirSync(join(root, 'Möwen & so'));
    writeFileSync(join(root, 'Möwen & so/100 %.jpg'), picture);
    writeFileSync(join(root, 'Möwen & so/no picture.jpg'), 'drawn');
  });
  const before = await hashed();
  const lot = await app.call('POST', `${path}/lots`, {
    fate: 'shrink',
    shrinking: { longest: 1600, place: 'remove' },
    folder: '',
  });
  const run = await app.finished(await startedFileRun(app, path, { action: 'shrink', lots: [lot.body.id] }));
  assert.deepEqual(
    [run.done, run.left.map(({ reason }: { reason: string }) => reason)],
    [{ messages: 1, bytes: picture.length }, ['not-decoded']],
  );
  const [trash] = readdirSync(join(folder, 'Trash'));
  const [original] = before.filter((line) => line.endsWith('100 %.jpg'));
  assert.deepEqual(await hashed(`Trash/${trash}`), [original]);
  const smaller = readFileSync(join(folder, 'Möwen & so/100 %.jpg'));
  const { width, height, format } = await sharp(smaller).metadata();
  assert.deepEqual([Math.max(width, height), format, run.added.bytes], [1600, 'jpeg', smaller.length]);
  const back = await app.finished(await startedFileRun(app, path, { action: 'restore', run: run.id }));
  assert.deepEqual(back.left, []);
  assert.deepEqual(
    (await hashed()).filter((line) => !line.slice(65).startsWith('Trash/')),
    before,
  );

  const { body: upload } = await app.call('POST', `${path}/uploads`, { where: 'kind = document and size > 60 kB' });
  const uploaded = await app.finished(`${account}/uploads/${upload.id}`);
  assert.deepEqual([uploaded.left, uploaded.done.files], [[], upload.asked.files]);
  const attached = new Set(
    (tinyScenario().attached ?? []).map((file) =>
      createHash('sha256').update(fileOctets(file, LETTER_LINES)).digest('hex'),
    ),
  );
  const put = await hashed('From mail');
  assert.ok(put.length > 0 && put.length <= upload.asked.files);
  for (const line of put) assert.ok(attached.has(line.slice(0, 64)), line);
});
