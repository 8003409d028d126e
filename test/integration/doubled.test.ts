import assert from 'node:assert/strict';
import { createHash } from 'node:crypto';
import { after, test } from 'node:test';
import { memberPath } from '../../src/core/space/path';
import { fileOctets } from '../../stand-in/files/body';
import { filesOf, SHARED } from '../../stand-in/scenario/files';
import { LETTER_LINES } from '../../stand-in/scenario/words';
import type { FileSpaceServer } from '../../stand-in/webdav/server';
import { addSpace, filesIn, listed, ROOT, startedFileRun, startFileSpace } from '../file-space';
import { App, cleanUp, DAY, demoScenario, startStandIn } from '../harness';

after(cleanUp);

const END = Date.parse(`${DAY}T18:00:00Z`) / 1000;

async function opened() {
  const host = await startStandIn();
  const told = demoScenario();
  const space = await startFileSpace(host, filesOf(told, END), SHARED);
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const path = await addSpace(app, account, space);
  const compare = async () => {
    await app.call('POST', `${account}/repeats/compare`, { what: 'spaces' });
    for (;;) {
      const { proofs, ...found } = (await app.call('GET', `${account}/repeats`)).body;
      const proof = proofs.find(({ what }: { what: string }) => what === 'spaces');
      if (proof.state === 'done' || proof.state === 'failed') return { ...found, proof };
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
  };
  const groups = async () => (await app.call('GET', `${account}/repeats/spaces`)).body.groups;
  return { host, told, space, app, account, path, compare, groups };
}

/** Paths in the file space of files that are attached to some message, as reading all of them tells. */
function attachedThere({ tree }: FileSpaceServer, attached: NonNullable<ReturnType<typeof demoScenario>['attached']>) {
  const sizes = new Set(attached.map(({ octets }) => octets));
  const hashes = new Set(
    [...tree.files.values()].filter(({ size }) => sizes.has(size)).map((file) => digest(file.octets())),
  );
  const both = new Set(
    attached
      .filter(({ octets }) => [...tree.files.values()].some(({ size }) => size === octets))
      .map((file) => digest(fileOctets(file, LETTER_LINES)))
      .filter((hash) => hashes.has(hash)),
  );
  return [...tree.files].filter(([path, file]) => tree.ownerOf(path) === undefined && both.has(digest(file.octets())));
}

function digest(octets: Buffer): string {
  return createHash('sha256').update(octets).digest('hex');
}

test('attached files that lie in the file space too are found by their octets, and taken out of the messages; the line says where they are', async () => {
  const { host, told, space, app, account, path, compare, groups } = await opened();
  const before = (await app.call('GET', `${account}/repeats`)).body;
  assert.ok(before.hasSpaces && before.unread.spaces.files >= 4 && before.spaces.groups === 0);
  const found = await compare();
  assert.deepEqual([found.proof.state, found.unread.spaces.files], ['done', 0]);
  const both = attachedThere(space, told.attached ?? []);
  assert.equal(both.length, 2);
  const shown = await groups();
  assert.deepEqual(
    shown.map((group: any) => [group.sha256, group.bytes]).sort(),
    both.map(([, file]) => [digest(file.octets()), file.size]).sort(),
  );
  for (const { places, copies, going } of shown) {
    assert.equal(places.length, 1);
    assert.equal(going.files, copies.filter(({ state }: any) => state === 'goes').length);
  }
  const mailNow = async () => (await app.call('GET', `${account}/level`)).body.mail.bytes;
  const mail = await mailNow();
  const { spaces } = found;
  const lot = await app.call('POST', `${account}/repeats/spaces/lots`, { expect: spaces.going });
  assert.equal(lot.status, 201, JSON.stringify(lot.body));
  const run = await app.ran(account, { action: 'strip', lots: [lot.body.id] });
  assert.deepEqual([run.state, run.left], ['done', []]);
  const messages = new Set(shown.flatMap(({ copies }: any) => copies.map(({ message }: any) => message)));
  assert.equal(run.done.messages, messages.size);
  // The line in its place says where it is; the file itself is as it was.
  // What the run appended, with soft line breaks undone (RFC 2045 §6.7).
  const appended = [...host.mailbox.folders.values()]
    .flatMap(({ messages }) => messages.filter(({ ref }) => !/^b\d+$/.test(ref)))
    .map(({ item }) => item.write().toString('latin1').replace(/=\r\n/g, ''));
  for (const { sha256, places, copies } of shown) {
    const notes = appended.filter((text) => text.includes(`SHA-256: ${sha256}`));
    assert.equal(notes.length, copies.length);
    const where = `Copy: the file space at ${space.url.origin}, ${places[0].path} (`;
    for (const note of notes) assert.ok(note.includes(where), note);
  }
  assert.deepEqual((await groups()).length, 0);
  // The mail falls by what was said, less the lines that stand in the places.
  const won = mail - (await mailNow());
  assert.ok(won <= spaces.going.bytes && won > spaces.going.bytes - 1_200 * messages.size, `${won}`);
  // The file space has them as they were. Whoever marks them is told that no message has them any more.
  for (const [where, file] of both)
    assert.equal(digest(space.tree.files.get(where)?.octets() as Buffer), digest(file.octets()));
  const all = async () => (await app.call('POST', `${path}/lots`, { folder: '' })).body;
  const marked = await all();
  assert.deepEqual([marked.takenOut, marked.files > both.length], [both.length, true]);
  await app.call('DELETE', `${account}/file-lots/${marked.id}`);
  await app.ran(account, { action: 'restore', run: run.id });
  assert.equal((await all()).takenOut, 0, 'the messages have them again');
});

test('what changed in the file space is not relied on, whatever its tag says; the message keeps its file', async () => {
  const { space, app, account, path, compare, groups } = await opened();
  space.faults.sameEtag = true;
  await app.call('POST', `${path}/listings`);
  await listed(app, account);
  await compare();
  const [first, second] = await groups();
  const { body: lot } = await app.call('POST', `${account}/repeats/spaces/lots`, {});
  // One is other octets of the same size, time and tag; the other is gone.
  const changed = space.tree.files.get(pathOf(first));
  assert.ok(changed);
  Object.assign(changed, { octets: () => Buffer.alloc(changed.size, 'x') });
  space.tree.remove(pathOf(second));
  const run = await app.ran(account, { action: 'strip', lots: [lot.id] });
  assert.equal(run.done.messages, 0);
  const messages = new Set([first, second].flatMap(({ copies }: any) => copies.map(({ message }: any) => message)));
  assert.deepEqual(
    run.left.map(({ reason, messages: number }: any) => [reason, number]),
    [['last-copy', messages.size]],
  );
  // The next listing finds out, and then nothing is doubled any more, nor promised.
  const again = await app.call('POST', `${account}/repeats/spaces/lots`, {});
  assert.equal(again.status, 201, 'as far as the index knows');
  await app.call('POST', `${path}/listings`);
  await listed(app, account);
  const { broken } = (await app.call('GET', `${account}/repeats`)).body;
  assert.equal(broken, second.copies.length);
});

test('a file that messages rely on does not go from the file space as well: neither is carried out until one of both is given up', async () => {
  const { space, app, account, path, compare, groups } = await opened();
  await compare();
  const [group] = await groups();
  const strip = await app.call('POST', `${account}/repeats/spaces/lots`, { groups: [group.id] });
  assert.equal(strip.status, 201);
  const { id } = (await filesIn(app, path)).get(group.places[0].path);
  const trash = await app.call('POST', `${path}/lots`, { ids: [id] });
  const runs = [
    await app.call('POST', `${account}/runs`, { action: 'strip', lots: [strip.body.id] }),
    await app.call('POST', `${path}/runs`, { action: 'trash', lots: [trash.body.id] }),
  ];
  for (const { status, body } of runs) assert.deepEqual([status, body.type], [409, '/problems/would-take-last']);
  assert.equal((await app.call('GET', `${account}/repeats`)).body.broken, group.going.files);
  // Told apart again, the messages keep their file.
  await app.call('POST', `${account}/repeats/again`);
  const moved = await app.finished(await startedFileRun(app, path, { action: 'trash', lots: [trash.body.id] }));
  assert.equal(moved.done.messages, 1);
  assert.ok([...space.tree.files.keys()].some((file) => file.startsWith(`${ROOT}Trash/`)));
  // What lies in the trash may go any day, so no message relies on it.
  assert.ok((await groups()).every(({ sha256 }: any) => sha256 !== group.sha256));
  await app.finished(await startedFileRun(app, path, { action: 'restore', run: moved.id }));
  assert.ok((await groups()).some(({ sha256 }: any) => sha256 === group.sha256));
});

test('the copies in the file space are let go instead: as long as a message has each, looked for on the server before it goes', async () => {
  const { host, space, app, account, path, compare, groups } = await opened();
  const found = await compare();
  const shown = await groups();
  const places = shown.flatMap((group: any) => group.places);
  assert.equal(places.length, 2);
  assert.deepEqual(found.spaces.goingThere, {
    files: 2,
    bytes: shown.reduce((sum: number, { bytes }: any) => sum + bytes, 0),
  });
  const none = await app.call('POST', `${account}/repeats/spaces/file-lots`, { expect: { files: 1, bytes: 1 } });
  assert.equal(none.status, 409);
  const { status, body } = await app.call('POST', `${account}/repeats/spaces/file-lots`, {
    expect: found.spaces.goingThere,
  });
  assert.equal(status, 201, JSON.stringify(body));
  const [lot] = body.lots;
  // Now it is the messages that keep them: nothing there can go any more.
  for (const { going, copies } of await groups()) {
    assert.equal(going.files, 0);
    assert.deepEqual([...new Set(copies.map(({ state }: any) => state))], ['stays']);
  }
  assert.equal((await app.call('POST', `${account}/repeats/spaces/lots`, {})).status, 422);
  // In the plan with the files of messages that keep one of them, it is refused.
  const [first, second] = shown;
  const message = await app.call('POST', `${account}/lots`, {
    fate: 'strip',
    ids: first.copies.map(({ file }: any) => file),
  });
  assert.equal(message.status, 201, JSON.stringify(message.body));
  const refused = await app.call('POST', `${path}/runs`, { action: 'trash', lots: [lot.id] });
  assert.deepEqual([refused.status, refused.body.type], [409, '/problems/would-take-last']);
  await app.call('DELETE', `${account}/lots/${message.body.id}`);
  // Another program has deleted the messages of the other, and nobody has told.
  const { rows } = await app.database.query<{ id: number; path: string; uid: string }>(
    `select distinct p.id, f.path, p.uid from file_digest d join placement p on p.account = d.account and p.message = d.file / 512
         join folder f on f.account = p.account and f.id = p.folder where encode(d.sha256, 'hex') = $1 and p.gone_at is null`,
    [second.sha256],
  );
  for (const { path: name, uid } of rows) {
    const folder = host.mailbox.folders.get(name);
    assert.ok(folder);
    host.mailbox.expunge(
      folder,
      folder.messages.filter((one) => one.uid === Number(uid)),
    );
  }
  const run = await app.finished(await startedFileRun(app, path, { action: 'trash', lots: [lot.id] }));
  assert.equal(run.done.messages, 1);
  assert.deepEqual(
    run.left.map(({ reason, messages }: any) => [reason, messages]),
    [['last-copy', 1]],
  );
  const there = (group: any) => space.tree.files.has(pathOf(group));
  assert.deepEqual([there(first), there(second)], [false, true]);
});

function pathOf(group: any): string {
  const names = group.places[0].path.split('/') as string[];
  return names.reduce((above, name, at) => memberPath(above, name, at < names.length - 1), ROOT);
}
