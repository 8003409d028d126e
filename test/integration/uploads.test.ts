import assert from 'node:assert/strict';
import { createHash } from 'node:crypto';
import { after, test } from 'node:test';
import { setTimeout as sleep } from 'node:timers/promises';
import { memberPath } from '../../src/core/space/path';
import { fileOctets } from '../../stand-in/files/body';
import { filesOf, SHARED } from '../../stand-in/scenario/files';
import { LETTER_LINES } from '../../stand-in/scenario/words';
import type { ScenarioFile } from '../../stand-in/webdav/tree';
import { addSpace, contents, indexed, listed, plainFile, ROOT, startFileSpace, there } from '../file-space';
import { App, cleanUp, DAY, startStandIn, tinyScenario, until } from '../harness';

after(cleanUp);

const END = Date.parse(`${DAY}T18:00:00Z`) / 1000;

/** Whether a digest is that of a file that is attached to some message. They are made once: that takes long. */
function isAttached(hash: string): boolean {
  attachedDigests ??= new Set((tinyScenario().attached ?? []).map((file) => digest(fileOctets(file, LETTER_LINES))));
  return attachedDigests.has(hash);
}
let attachedDigests: Set<string> | undefined;

/** @param room octets that the limit leaves beyond what the mailbox's does. */
async function opened(files?: readonly ScenarioFile[], room = 500_000_000) {
  const told = tinyScenario();
  const host = await startStandIn({ scenario: { ...told, limit: told.limit + room } });
  const space = await startFileSpace(host, files ?? filesOf(told, END), SHARED);
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const path = await addSpace(app, account, space);
  /** Files of messages of 20 kB or more, as the index lists them. */
  const listedFiles = async (limit: number, direction: 'up' | 'down') =>
    (await app.call('GET', `${account}/files?where=size%20%3E%2020%20kB&direction=${direction}&limit=${limit}`)).body
      .files as any[];
  const largest = (limit: number) => listedFiles(limit, 'down');
  const smallest = (limit: number) => listedFiles(limit, 'up');
  const started = async (body: object) => {
    const { status, body: upload } = await app.call('POST', `${path}/uploads`, body);
    assert.equal(status, 202, JSON.stringify(upload));
    return `${account}/uploads/${upload.id}`;
  };
  const ended = async (upload: string) => {
    let now: any;
    await until(async () => {
      now = (await app.call('GET', upload)).body;
      return !['queued', 'running'].includes(now.state);
    });
    return now;
  };
  const level = async () => (await app.call('GET', `${account}/level`)).body;
  return { host, space, app, account, path, largest, smallest, started, ended, level };
}

type Opened = Awaited<ReturnType<typeof opened>>;

function digest(octets: Buffer): string {
  return createHash('sha256').update(octets).digest('hex');
}

/** What an upload says of its files. */
async function filesOfUpload({ app }: Opened, upload: string): Promise<any[]> {
  return (await app.call('GET', `${upload}/files?limit=1000`)).body.files;
}

/** The file at a path that the API tells. */
function at({ space }: Opened, path: string): Buffer | undefined {
  return space.tree.files.get(spelled(path))?.octets();
}

/** A path that the API tells, as it goes over the wire. */
function spelled(path: string): string {
  const names = path.split('/');
  return names.reduce((above, name, index) => memberPath(above, name, index < names.length - 1), ROOT);
}

/** That what was there before is as it was, and the index holds what is there. */
async function nothingElseChanged({ app, space }: Opened, before: Map<string, string>): Promise<void> {
  const now = contents(space);
  for (const [file, octets] of before) assert.equal(now.get(file), octets, file);
  assert.deepEqual(await indexed(app), there(space));
}

test('attached files are put into the file space, read back, and taken out of their messages; an undo brings the messages back', async () => {
  const all = await opened();
  const { space, app, account, path, smallest, started, ended, level } = all;
  const before = contents(space);
  const files = await smallest(12);
  const ids = files.map(({ id }) => id);
  const { body: estimate } = await app.call('POST', `${path}/uploads/estimate`, { ids });
  assert.equal(estimate.inMail.files, 12);
  assert.equal(estimate.counts, true, 'both count against one limit, so that this alone wins nothing');
  assert.ok(estimate.inSpace > 0.7 * estimate.inMail.bytes && estimate.inSpace < estimate.inMail.bytes);
  const { mail, space: filesBefore } = await level();
  const upload = await started({ ids });
  const done = await ended(upload);
  assert.deepEqual([done.state, done.left, done.done.files], ['done', [], 12], JSON.stringify(done));
  assert.deepEqual(done.asked, estimate.inMail);
  assert.ok(done.done.bytes <= estimate.inSpace && done.done.bytes > 0.95 * estimate.inSpace);
  const put = await filesOfUpload(all, upload);
  for (const { file, path: where, name, state } of put) {
    assert.equal(state, 'done');
    const octets = at(all, where);
    assert.ok(octets && isAttached(digest(octets)), `${where} has the octets of the attached file`);
    assert.match(where, /^From mail\/\d{4}\/\d{4}-\d\d-\d\d [^/]+\/[^/]+$/);
    assert.equal(files.find(({ id }) => id === file).name, name);
  }
  await nothingElseChanged(all, before);
  // Nothing is won by this alone.
  const between = await level();
  assert.equal(between.mail.bytes, mail.bytes);
  const inFiles = ({ files: rest, pictures }: any) => rest.bytes + pictures.bytes;
  assert.equal(inFiles(between.space) - inFiles(filesBefore), done.done.bytes - done.had.bytes);
  assert.equal(between.space.unexplained, 0, 'to the octet');

  const { status, body: lot } = await app.call('POST', `${upload}/lots`, {});
  assert.deepEqual([status, lot.files], [201, 12], JSON.stringify(lot));
  const run = await app.ran(account, { action: 'strip', lots: [lot.id] });
  assert.deepEqual([run.state, run.left], ['done', []]);
  const after = await level();
  const won = mail.bytes - after.mail.bytes;
  assert.ok(won <= estimate.inMail.bytes && won > estimate.inMail.bytes - 1_200 * run.done.messages, `${won}`);
  const undone = await app.ran(account, { action: 'restore', run: run.id });
  assert.deepEqual([undone.state, undone.left], ['done', []]);
  assert.ok((await level()).mail.bytes >= mail.bytes);
  // The file space has them all the same; they are doubled now.
  for (const { path: where } of put) assert.ok(at(all, where));
});

test('what lies there already is not put there again, and nothing is put over another file', async () => {
  const all = await opened();
  const { space, app, account, smallest, largest, started, ended } = all;
  const names = new Set([...space.tree.files.keys()].map((file) => decodeURIComponent(file.split('/').at(-1) ?? '')));
  const kept = (await largest(1_000)).filter(({ name }) => names.has(name));
  const files = [...kept, ...(await smallest(61))];
  const [next] = files.splice(-1);
  const first = await ended(await started({ ids: files.map(({ id }) => id) }));
  assert.deepEqual([first.state, first.left], ['done', []]);
  const puts = space.asked.get('PUT') as number;
  // The same again: each lies there.
  const again = await ended(await started({ ids: files.map(({ id }) => id), folder: 'Elsewhere' }));
  assert.deepEqual([again.had, again.done.files, space.asked.get('PUT')], [again.done, first.done.files, puts]);
  assert.ok(kept.length >= 1 && first.had.files >= 1, 'two of them lay there from the beginning');
  // What came in several messages was put there once.
  const hashes = [...space.tree.files.values()].map((file) => digest(file.octets())).filter(isAttached);
  assert.equal(new Set(hashes).size, hashes.length);

  // Somebody has put other files, and a folder, at the places that come next.
  const probe = await started({ ids: [next.id], folder: 'Probe' });
  await ended(probe);
  const [{ path: where }] = await filesOfUpload(all, probe);
  const taken = spelled(where);
  const octets = at(all, where) as Buffer;
  space.tree.remove(taken);
  space.tree.put(taken, Buffer.from('a letter of somebody else'), 'text/plain');
  const second = spelled(where.replace(/(\.[^.]*)$/, ' (2)$1'));
  space.tree.makeFolder(`${second}/`);
  await app.call('POST', `${account}/spaces/1/listings`);
  await listed(app, account);
  const before = contents(space);
  const third = await started({ ids: [next.id], folder: 'Probe' });
  await ended(third);
  const [{ path: placed }] = await filesOfUpload(all, third);
  assert.equal(placed, where.replace(/(\.[^.]*)$/, ' (3)$1'));
  assert.ok(at(all, placed)?.equals(octets));
  await nothingElseChanged(all, before);
});

test('where both share a full limit, what fits is put there, and the rest once room was won', async () => {
  const all = await opened(undefined, 0);
  const { app, account, path, largest, started, ended, level } = all;
  const ids = (await largest(150)).map(({ id }) => id);
  const { body: estimate } = await app.call('POST', `${path}/uploads/estimate`, { ids });
  assert.ok(estimate.available < estimate.inSpace);
  assert.equal(estimate.room, Math.floor(estimate.available / 2), 'mail has to come in too');
  const upload = await started({ ids });
  const first = await ended(upload);
  assert.deepEqual([first.state, first.left.length, first.left[0].reason], ['done', 1, 'no-room']);
  assert.ok(first.done.bytes - first.had.bytes <= estimate.room);
  assert.ok(first.done.files > 0, 'smaller ones have room where a large one has none');
  const { body: lot } = await app.call('POST', `${upload}/lots`, {});
  await app.ran(account, { action: 'strip', lots: [lot.id] });
  await app.ran(account, { action: 'purge', folder: 'Trash' });
  const second = await ended(await started({ ids }));
  assert.ok(second.asked.files < ids.length && second.done.files > 0);
  assert.equal((await level()).space.unexplained, 0);
});

test('what the file server refuses is left with its reason, and what it keeps otherwise is not relied on', async () => {
  const all = await opened([plainFile('notes.txt', 10)]);
  const { space, app, smallest, started, ended } = all;
  const before = contents(space);
  const files = await smallest(30);
  const ids = files.slice(0, 6).map(({ id }) => id);
  const outcome = async (folder: string) => {
    const { state, left, done } = await ended(await started({ ids, folder }));
    return [state, left.map(({ reason, files: number }: any) => [reason, number]), done.files];
  };
  space.faults.full = true;
  const puts = () => space.asked.get('PUT') ?? 0;
  assert.deepEqual(await outcome('Full'), ['done', [['no-room', 6]], 0]);
  assert.ok(puts() < 6, 'what is as large is not sent again and again');
  space.faults.full = false;
  space.faults.refuse = { method: 'PUT', status: 423, times: 2 };
  assert.deepEqual(await outcome('Locked'), ['done', [['locked', 2]], 4]);
  space.faults.refuse = { method: 'PUT', status: 403, times: 1 };
  space.faults.alters = true;
  const rest = files.slice(6, 10).map(({ id }) => id);
  const altering = await started({ ids: rest, folder: 'Altered' });
  const altered = await ended(altering);
  assert.deepEqual(
    altered.left.map(({ reason, files: number }: any) => [reason, number]),
    [
      ['altered', 3],
      ['refused', 1],
    ],
  );
  assert.equal((await app.call('POST', `${altering}/lots`, {})).status, 422);
  const now = contents(space);
  for (const [file, octets] of before) assert.equal(now.get(file), octets);
  // A name that leads elsewhere, the trash, and what others share are no places.
  for (const folder of ['../up', '.', 'Trash/x', '   '])
    assert.equal((await app.call('POST', `${all.path}/uploads`, { ids, folder })).status, 422, folder);
});

test('whatever is lost on the way and whoever is killed, each file lies there once and whole, and nothing else is touched', async () => {
  const all = await opened([plainFile('From%20mail/2019/mine.txt', 10)]);
  const { space, app, smallest, started, ended } = all;
  const before = contents(space);
  const ids = (await smallest(100)).map(({ id }) => id);
  space.faults.latencyMs = 5;
  space.faults.dropAnswerTo = { method: 'PUT', times: 2 };
  const upload = await started({ ids });
  for (const fault of ['PUT', 'MKCOL', 'GET', 'PROPFIND']) {
    await sleep(300);
    await app.killWorker();
    space.faults.dropAnswerTo = { method: fault, times: 2 };
    space.faults.keepPart = { octets: 700, times: 2 };
    app.startWorker();
  }
  const done = await ended(upload);
  assert.deepEqual([done.state, done.left, done.done.files], ['done', [], ids.length], JSON.stringify(done));
  await nothingElseChanged(all, before);
  const put = [...contents(space)].filter(([file]) => !before.has(file));
  for (const [file, octets] of put) assert.ok(isAttached(digest(Buffer.from(octets, 'latin1'))), `${file} is whole`);
  const told = (await filesOfUpload(all, upload)).map(({ path: where }) => where);
  assert.equal(new Set(told).size, put.length, 'none lies there that the upload does not tell of');
});

test('an upload is paused, goes on and is cancelled; what lies there can be taken out of the mail, and a guard keeps what it keeps', async () => {
  const all = await opened([]);
  const { space, app, account, path, smallest, started, ended } = all;
  const files = await smallest(200);
  // What a guard keeps is left out.
  const kept = files[0];
  const guard = await app.call('POST', `${account}/guards`, { kind: 'criteria', where: `subject = "${kept.subject}"` });
  assert.equal(guard.status, 201, JSON.stringify(guard.body));
  const ids = files.map(({ id }) => id);
  const { body: estimate } = await app.call('POST', `${path}/uploads/estimate`, { ids });
  assert.ok(estimate.inMail.files < ids.length);
  space.faults.latencyMs = 20;
  const upload = await started({ ids });
  assert.equal((await app.call('DELETE', path)).status, 409);
  await until(async () => (await app.call('GET', upload)).body.done.files > 0);
  await app.call('POST', `${upload}/pause`);
  const paused = await ended(upload);
  assert.equal(paused.state, 'paused');
  assert.ok(paused.done.files < estimate.inMail.files);
  await app.call('POST', `${upload}/resume`);
  await until(async () => (await app.call('GET', upload)).body.done.files > paused.done.files);
  await app.call('POST', `${upload}/cancel`);
  const cancelled = await ended(upload);
  assert.equal(cancelled.state, 'cancelled');
  const [{ reason, files: left }] = cancelled.left;
  assert.deepEqual([reason, left + cancelled.done.files], ['cancelled', estimate.inMail.files]);
  assert.equal((await app.call('POST', `${upload}/resume`)).status, 409);
  const { body: lot } = await app.call('POST', `${upload}/lots`, {});
  assert.equal(lot.files, cancelled.done.files);
  assert.deepEqual(await indexed(app), there(space));
  // What the plan takes is not put there again.
  const twice = await app.call('POST', `${path}/uploads/estimate`, { ids });
  assert.equal(twice.body.inMail.files, estimate.inMail.files - lot.files);
});
