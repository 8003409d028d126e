import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { setTimeout as sleep } from 'node:timers/promises';
import { memberPath } from '../../src/core/space/path';
import { Random } from '../../stand-in/message/random';
import { filesOf, SHARED } from '../../stand-in/scenario/files';
import { addSpace, indexed, listed, plainFile, ROOT, startFileSpace, there } from '../file-space';
import { App, cleanUp, DAY, demoScenario, startStandIn, tinyScenario, USER, until } from '../harness';

after(cleanUp);

const END = Date.parse(`${DAY}T18:00:00Z`) / 1000;

test('what is not mail is explained to the octet: files, pictures, and what the parish shares apart', async () => {
  const host = await startStandIn();
  const told = demoScenario();
  const space = await startFileSpace(host, filesOf(told, END), SHARED);
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  assert.equal((await app.call('GET', `${account}/level`)).body.space, undefined, 'nothing is known of files');
  const path = await addSpace(app, account, space);
  const { body: level } = await app.call('GET', `${account}/level`);
  const { files, pictures, shared, trash, plan, ...rest } = level.space;
  assert.deepEqual(rest, { unexplained: 0, toTheOctet: true, complete: true });
  assert.equal(files.bytes + pictures.bytes, told.notMail);
  assert.equal(pictures.files, 21);
  assert.equal(shared.files, 6);
  assert.deepEqual(
    [trash, plan],
    [
      { files: 0, bytes: 0, pictureBytes: 0 },
      { files: 0, bytes: 0, pictureBytes: 0 },
    ],
  );
  const { spaces } = (await app.call('GET', `${account}/spaces`)).body;
  assert.deepEqual([spaces[0].counts, spaces[0].countsBy, spaces[0].used], [true, 'figures', host.mailbox.used()]);
  // Each folder with all below it; kinds and years add up to all that counts.
  const { body: contents } = await app.call('GET', `${path}/contents`);
  const all = [...space.tree.files];
  for (const { path: folder, shared: isShared, total } of contents.folders) {
    const below = all.filter(
      ([file]) =>
        decodeURIComponent(file).startsWith(`${ROOT}${folder === '' ? '' : `${folder}/`}`) &&
        (space.tree.ownerOf(file) !== undefined) === isShared,
    );
    assert.deepEqual(total, { files: below.length, bytes: sum(below.map(([, { size }]) => size)) }, folder);
  }
  assert.equal(contents.folders.length + contents.others, space.tree.folders.size);
  for (const parts of [contents.kinds, contents.years])
    assert.equal(sum(parts.map(({ bytes }: { bytes: number }) => bytes)), told.notMail);
  const largest = (await app.call('GET', `${path}/files?limit=3`)).body;
  assert.equal(largest.files[0].path, 'Films/Open day 2025.mp4');
  const next = (await app.call('GET', `${path}/files?limit=200&after=${largest.next}`)).body;
  assert.equal(largest.files.length + next.files.length, all.length);
  // Forgotten, it is as before, and its password is gone.
  assert.equal((await app.call('DELETE', path)).status, 204);
  assert.equal((await app.call('GET', `${account}/level`)).body.space, undefined);
  assert.deepEqual(await indexed(app), []);
  assert.equal(space.tree.files.size, all.length);
});

for (const way of ['what changed', 'folder by folder'] as const)
  test(`whatever happens there is found by the next listing, ${way}`, async () => {
    const host = await startStandIn({ scenario: tinyScenario() });
    const random = new Random(way.length);
    const names = ['a', 'b & c', 'd%20', 'é', 'f;g'];
    const pathOf = () =>
      Array.from({ length: random.between(0, 3) }, () => random.pick(names)).reduce(
        (folder, name) => memberPath(folder, name, true),
        ROOT,
      );
    const space = await startFileSpace(host, [plainFile('a/first', 10), plainFile('second', 20)]);
    space.faults.noSync = way === 'folder by folder';
    const app = await App.start();
    const account = await app.signIn({ port: host.plainPort });
    const path = await addSpace(app, account, space);
    assert.deepEqual(await indexed(app), there(space));
    const { tree } = space;
    for (let round = 0; round < 12; round++) {
      for (let change = 0; change < 8; change++) {
        const [folder, name] = [pathOf(), random.pick(names)];
        const file = memberPath(folder, `${name}.txt`);
        const kind = random.below(6);
        if (kind < 3) tree.put(file, Buffer.alloc(random.below(90)), 'text/plain');
        else if (kind === 3) tree.makeFolder(folder);
        else if (kind === 4 && folder !== ROOT) tree.remove(folder);
        else if (tree.files.has(file)) tree.move(file, memberPath(ROOT, `moved-${round}-${change}`));
      }
      if (!tree.folders.has(ROOT)) tree.makeFolder(ROOT);
      space.asked.clear();
      const before = await ids(app);
      assert.equal((await app.call('POST', `${path}/listings`)).status, 202);
      await listed(app, account);
      assert.deepEqual(await indexed(app), there(space), `round ${round}`);
      const folders = (await app.database.query('select path from space_folder order by path collate "C"')).rows;
      assert.deepEqual(
        folders.map((folder) => folder.path),
        [...tree.folders].sort(),
      );
      // What stayed as it was is the same row.
      const after = await ids(app);
      for (const [key, id] of before) if (after.has(key)) assert.equal(after.get(key), id, key);
      const reports = space.asked.get('REPORT') ?? 0;
      assert.equal(reports > 0, way === 'what changed');
    }
    space.asked.clear();
    await app.call('POST', `${path}/listings`);
    const { listing } = await listed(app, account);
    assert.equal(listing.state, 'done');
    assert.equal(space.asked.get('PROPFIND'), way === 'what changed' ? 3 : 3 + tree.folders.size);
  });

test('a folder that went and came back is read anew, though nobody says what went with it', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const space = await startFileSpace(host, [plainFile('a/first', 10), plainFile('a/b/second', 20), plainFile('c', 5)]);
  space.faults.terse = true;
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  const path = await addSpace(app, account, space);
  space.tree.remove(`${ROOT}a/`);
  space.tree.makeFolder(`${ROOT}a/`);
  space.tree.put(`${ROOT}a/third`, Buffer.alloc(7), 'text/plain');
  await app.call('POST', `${path}/listings`);
  await listed(app, account);
  assert.deepEqual(await indexed(app), there(space));
});

test('a listing goes on behind each folder when its worker is killed, and ends as if it had not been', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const files = Array.from({ length: 60 }, (_, folder) =>
    Array.from({ length: 5 }, (_, file) => plainFile(`f${folder}/g/file-${file}`, folder + file)),
  ).flat();
  const space = await startFileSpace(host, files);
  space.faults.noSync = true;
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  space.faults.latencyMs = 60;
  const { body } = await app.call('POST', `${account}/spaces`, { address: space.url.href });
  for (let kill = 0; kill < 3; kill++) {
    await sleep(700);
    await app.killWorker();
    app.startWorker();
  }
  await until(async () => (await listed(app, account)).listing.state === 'done');
  assert.deepEqual(await indexed(app), there(space));
  // Besides the folders themselves only what was being read when it was killed was asked for again.
  const folders = space.tree.folders.size;
  const asked = space.asked.get('PROPFIND') as number;
  assert.ok(asked >= folders && asked <= folders + 3 * 16 + 6, `${asked} requests for ${folders} folders`);
  const { rows } = await app.database.query('select listing from space where id = $1', [body.id]);
  assert.deepEqual(rows, [{ listing: 1 }], 'it was one listing');
});

test('what can’t be read is an error, and what was known stays', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const files = Array.from({ length: 40 }, (_, at) => plainFile(`f${at % 4}/file-${at}`, at));
  const space = await startFileSpace(host, files);
  space.faults.noSync = true;
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  const path = await addSpace(app, account, space);
  const known = await indexed(app);
  const again = async () => {
    await app.call('POST', `${path}/listings`);
    return listed(app, account);
  };
  for (const [faults, kind] of [
    [{ bomb: true }, 'unreadable-answer'],
    [{ deep: true }, 'too-many'],
    [{ refuse: { method: 'PROPFIND', status: 403, times: 9 } }, 'forbidden'],
    [{ refuse: { method: 'PROPFIND', status: 200, times: 9 } }, 'not-dav'],
  ] as const) {
    Object.assign(space.faults, faults);
    const { listing, problem } = await again();
    assert.deepEqual([listing.state, problem?.kind], ['failed', kind]);
    assert.deepEqual(await indexed(app), known);
    Object.assign(space.faults, { bomb: false, deep: false, refuse: null });
  }
  // Cut off anywhere, an answer is asked for again; what came before the cut is never all.
  for (const octets of [0, 60, 700, 1_500]) {
    space.faults.cutAfter = { octets, times: 2 };
    const { listing, problem } = await again();
    assert.deepEqual([listing.state, problem], ['done', undefined], `${octets}`);
    assert.deepEqual(await indexed(app), known);
  }
  // Tags that lie: a file of another size or time is another all the same.
  space.faults.sameEtag = true;
  await again();
  space.tree.put(`${ROOT}f1/file-1`, Buffer.alloc(99), 'text/plain');
  await again();
  const { rows } = await app.database.query('select bytes from space_file where path = $1 and gone_at is null', [
    `${ROOT}f1/file-1`,
  ]);
  assert.deepEqual(rows, [{ bytes: 99 }]);
});

test('who signs in is asked of the server, and kept sealed; a limit that nobody tells is asked of the person', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const space = await startFileSpace(host, [plainFile('a', 100)]);
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const add = (body: object) => app.call('POST', `${account}/spaces`, body);
  const address = space.url.href;
  for (const [body, type, field] of [
    [{ address: 'ftp://localhost/' }, 'invalid', 'address'],
    [{ address: `${space.url.origin}/%00/` }, 'invalid', 'address'],
    [{ address: 'http://files.example/' }, 'no-such-host', 'address'],
    [{ address, user: USER, password: 'wrong' }, 'password-refused', 'password'],
    [{ address, user: USER }, 'invalid', 'password'],
    [{ address: `${space.url.origin}/files/nowhere/` }, 'gone', 'address'],
    [{ address: `http://localhost:${host.plainPort}/` }, 'unreadable-answer', 'address'],
  ] as const) {
    const { status, body: problem } = await add(body);
    assert.deepEqual([status, problem.type, problem.errors?.[0]?.field], [422, `/problems/${type}`, field]);
  }
  space.faults.noQuota = true;
  const { body: added } = await add({ address: address.slice(0, -1), user: USER, password: 'allotment' });
  const found = await listed(app, account);
  assert.deepEqual([found.address, found.user, found.counts], [address, USER, null]);
  assert.equal((await app.call('GET', `${account}/level`)).body.space, undefined);
  const path = `${account}/spaces/${added.id}`;
  assert.equal((await app.call('PATCH', path, { counts: true })).body.counts, true);
  assert.equal((await app.call('GET', `${account}/level`)).body.space.files.bytes, 100);
  // The same place is the same file space.
  assert.equal((await add({ address })).body.id, added.id);
  await listed(app, account);
  const { rows } = await app.database.query('select user_name, sealed from space');
  assert.deepEqual(rows, [{ user_name: null, sealed: null }], 'it is signed in to as to the mailbox now');
  await app.call('PATCH', path, { user: USER, password: 'allotment' });
  const kept = (await app.database.query<{ sealed: Buffer }>('select sealed from space')).rows[0]?.sealed as Buffer;
  assert.ok(!kept.toString('latin1').includes('allotment'));
  // With the session goes the password; another's account has none of it.
  await app.call('DELETE', '/session');
  app.cookie = '';
  const left = (await app.database.query('select user_name, sealed, state from space')).rows;
  assert.deepEqual(left, [{ user_name: null, sealed: null, state: 'locked' }]);
  assert.equal((await app.call('GET', `${account}/spaces`)).status, 401);
});

async function ids(app: App): Promise<Map<string, number>> {
  const { rows } = await app.database.query<{ id: number; key: string }>(
    `select id, path || ' ' || coalesce(etag, '') as key from space_file where gone_at is null`,
  );
  return new Map(rows.map(({ id, key }) => [key, id]));
}

function sum(numbers: readonly number[]): number {
  return numbers.reduce((total, number) => total + number, 0);
}

test('after a scan what changed there is found by itself, and after a purge of mail both servers are asked how full they are', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const space = await startFileSpace(host, [plainFile('a', 1_000), plainFile('b/c', 2_000)]);
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  await addSpace(app, account, space);
  space.tree.put(`${ROOT}b/new`, Buffer.alloc(70_000), 'text/plain');
  await app.scanned(account, true);
  await until(async () => (await listed(app, account)).own.files === 3);
  assert.deepEqual(await indexed(app), there(space));
  // Where the server can't tell what changed, not every scan reads all of it.
  space.faults.noSync = true;
  await app.call('POST', `${account}/spaces/1/listings`);
  await listed(app, account);
  const asked = space.asked.get('PROPFIND');
  await app.scanned(account, true);
  assert.equal((await listed(app, account)).listing.state, 'done');
  assert.equal(space.asked.get('PROPFIND'), asked);

  const before = (await listed(app, account)).used;
  const lot = await app.call('POST', `${account}/lots`, { where: 'size > 100 kB', fate: 'purge', scope: 'all' });
  const purge = await app.ran(account, { action: 'purge', lots: [lot.body.id] });
  assert.ok(purge.done.bytes > 0);
  const { used } = await listed(app, account);
  assert.equal(before - used, purge.done.bytes);
  const level = (await app.call('GET', `${account}/level`)).body;
  assert.deepEqual(
    [level.space.unexplained, level.space.toTheOctet],
    [host.mailbox.used() - level.mail.bytes - level.trash.bytes - space.tree.bytes, true],
  );
});
