import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { setTimeout as sleep } from 'node:timers/promises';
import { memberPath } from '../../src/core/space/path';
import { filesOf, SHARED } from '../../stand-in/scenario/files';
import type { ScenarioFile, Shared } from '../../stand-in/webdav/tree';
import {
  addSpace,
  contents,
  filesIn,
  indexed,
  listed,
  plainFile,
  ROOT,
  startedFileRun,
  startFileRun,
  startFileSpace,
  there,
} from '../file-space';
import { App, cleanUp, DAY, demoScenario, startStandIn, tinyScenario, until } from '../harness';

after(cleanUp);

const END = Date.parse(`${DAY}T18:00:00Z`) / 1000;

async function opened(files: readonly ScenarioFile[], shared: readonly Shared[] = [], scenario = tinyScenario()) {
  const host = await startStandIn({ scenario });
  const space = await startFileSpace(host, files, shared);
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const path = await addSpace(app, account, space);
  const idsOf = async (...paths: string[]) => {
    const known = await filesIn(app, path);
    return paths.map((each) => known.get(each).id as number);
  };
  return { host, space, app, account, path, idsOf };
}

/** The trash of a run, and what a path becomes in it. */
function inTrash(run: any, path: string): string {
  const folder = memberPath(`${ROOT}Trash/`, `${run.createdAt.slice(0, 10)} run ${run.id}`, true);
  return folder + path.slice(ROOT.length);
}

test('files of the demo go to the trash of the file space, come back, and are purged; the level falls by what was said', async () => {
  const told = demoScenario();
  const { host, space, app, account, path, idsOf } = await opened(filesOf(told, END), SHARED, told);
  const before = contents(space);
  const level = async () => (await app.call('GET', `${account}/level`)).body;
  const film = 'Films/Open day 2025.mp4';
  const [id] = await idsOf(film);
  const start = await level();
  const evening = [...before.keys()].filter((file) => file.startsWith(`${ROOT}Open%20days/2024/Evening/`));
  assert.ok(evening.length > 2);
  const one = await app.call('POST', `${path}/lots`, { ids: [id, id] });
  const two = await app.call('POST', `${path}/lots`, { folder: 'Open days/2024/Evening', label: 'Evening' });
  const both = await app.call('POST', `${path}/lots`, { folder: 'Open days/2024' });
  assert.deepEqual([one.body.files, two.body.files], [1, evening.length]);
  assert.equal(both.body.adds.files, both.body.files - two.body.files, 'what two lots hold counts once');
  await app.call('DELETE', `${account}/file-lots/${both.body.id}`);
  const { lots, total } = (await app.call('GET', `${account}/file-lots`)).body;
  assert.equal(total.files, 1 + evening.length);
  const full = await level();
  assert.equal(full.space.plan.bytes, total.bytes);
  assert.equal(start.after - full.after, total.bytes);
  assert.equal((await app.call('GET', `${account}/lots`)).body.lots.length, 0, 'they are no lots of messages');

  const run = await app.finished(
    await startedFileRun(app, path, { action: 'trash', lots: lots.map((lot: any) => lot.id) }),
  );
  assert.deepEqual([run.state, run.left, run.done], ['done', [], { messages: total.files, bytes: total.bytes }]);
  assert.deepEqual(run.undo, run.done);
  const moved = [`${ROOT}Films/Open%20day%202025.mp4`, ...evening];
  const now = contents(space);
  assert.equal(now.size, before.size);
  for (const [file, octets] of before) {
    const isMoved = moved.includes(file);
    assert.equal(now.has(file), !isMoved, file);
    assert.equal(now.get(isMoved ? inTrash(run, file) : file), octets);
  }
  const { groups, folder } = (await app.call('GET', `${path}/trash`)).body;
  assert.deepEqual([folder, groups], ['Trash', [{ run: run.id, label: run.label, ...total }]]);
  const left = await level();
  assert.equal(left.used, full.used, 'in the trash they still count');
  assert.equal(left.after, full.after);
  const { pictureBytes, ...trashed } = left.space.trash;
  assert.deepEqual([trashed, left.space.unexplained], [total, 0]);
  assert.equal(pictureBytes, total.bytes - one.body.bytes);

  // The index is as it is there, before the next listing and after it.
  assert.deepEqual(await indexed(app), there(space));
  await app.call('POST', `${path}/listings`);
  await listed(app, account);
  assert.deepEqual(await indexed(app), there(space));

  const undone = await app.finished(await startedFileRun(app, path, { action: 'restore', run: run.id }));
  assert.deepEqual([undone.state, undone.left, undone.done], ['done', [], run.done]);
  assert.deepEqual(contents(space), before);
  assert.equal((await app.call('GET', `${account}/runs/${run.id}`)).body.undo.messages, 0);

  const again = await app.finished(await startFileRun(app, path, 'trash', { ids: [id] }));
  const used = host.mailbox.used();
  const purged = await app.finished(
    await startedFileRun(app, path, { action: 'purge', trash: true, expect: { files: 1 } }),
  );
  assert.deepEqual([purged.state, purged.done], ['done', again.done]);
  assert.equal(used - host.mailbox.used(), purged.done.bytes);
  assert.equal(purged.before.files - purged.after.files, purged.done.bytes);
  assert.ok(purged.settled, 'the host’s figure followed at once');
  assert.deepEqual(await indexed(app), there(space));
  const outcomes = (await app.call('GET', `${account}/runs/${purged.id}/files`)).body.files;
  assert.deepEqual(
    outcomes.map(({ outcome, bytes }: any) => [outcome, bytes]),
    [['done', purged.done.bytes]],
  );
  const { faults } = (await app.call('GET', `${account}/ledger/check`)).body;
  assert.deepEqual(faults, []);
});

test('what is not as it was marked is left with the reason, and nothing is put over another file', async () => {
  const files = ['same', 'grown', 'touched', 'gone', 'open', 'new folder/deep', 'theirs/file', 'back', 'back too'].map(
    (name, index) => plainFile(name.split('/').map(encodeURIComponent).join('/'), 100 + index),
  );
  const { space, app, account, path, idsOf } = await opened(files, [{ path: 'theirs/', owner: 'parish' }]);
  const { tree, faults } = space;
  const all = ['same', 'grown', 'touched', 'gone', 'open', 'new folder/deep', 'back', 'back too'];
  const theirs = await app.call('POST', `${path}/lots`, { ids: await idsOf('theirs/file') });
  assert.equal(theirs.status, 422, 'what others share is nobody’s to delete');
  const lot = await app.call('POST', `${path}/lots`, {
    ids: [...(await idsOf(...all)), ...(await idsOf('theirs/file'))],
  });
  assert.equal(lot.body.files, all.length);
  // The tags say that all is as it was.
  faults.sameEtag = true;
  faults.noSync = true;
  await app.call('POST', `${path}/listings`);
  await listed(app, account);
  assert.equal((await app.call('GET', `${account}/file-lots`)).body.lots[0].vanished, all.length, 'another state each');
  await app.call('DELETE', `${account}/file-lots/${lot.body.id}`);
  const next = await app.call('POST', `${path}/lots`, { ids: await idsOf(...all) });
  tree.put(`${ROOT}grown`, Buffer.alloc(500), 'text/plain');
  tree.put(`${ROOT}touched`, Buffer.alloc(102), 'text/plain');
  tree.remove(`${ROOT}gone`);
  faults.locked = [`${ROOT}open`];
  const run = await app.finished(await startedFileRun(app, path, { action: 'trash', lots: [next.body.id] }));
  assert.deepEqual(
    run.left.map(({ reason, messages }: any) => [reason, messages]),
    [
      ['changed', 2],
      ['locked', 1],
      ['vanished', 1],
    ],
  );
  assert.equal(run.done.messages, 4);
  assert.equal(run.problem.kind, 'locked', 'it says what the server said');
  await listed(app, account);
  const pathsOf = (files: [path: string, ...unknown[]][]) => files.map(([file]) => file);
  assert.deepEqual(pathsOf(await indexed(app)), pathsOf(there(space)), 'it was listed again: others changed something');
  for (const file of ['grown', 'touched', 'open', 'theirs/file']) assert.ok(tree.files.has(ROOT + file), file);
  for (const file of ['same', 'new%20folder/deep', 'back']) assert.ok(tree.files.has(inTrash(run, ROOT + file)), file);

  // Something else lies where two of them were; a folder has gone.
  tree.put(`${ROOT}back`, Buffer.from('another'), 'text/plain');
  tree.remove(`${ROOT}new%20folder/`);
  tree.put(inTrash(run, `${ROOT}back%20too`), Buffer.from('not what it was'), 'text/plain');
  const undone = await app.finished(await startedFileRun(app, path, { action: 'restore', run: run.id }));
  assert.deepEqual(
    undone.left.map(({ reason, messages }: any) => [reason, messages]),
    [
      ['changed', 1],
      ['there', 1],
    ],
  );
  assert.equal(tree.files.get(`${ROOT}back`)?.octets().toString(), 'another');
  assert.ok(tree.files.has(inTrash(run, `${ROOT}back`)));
  assert.ok(tree.files.has(`${ROOT}same`) && tree.files.has(`${ROOT}new%20folder/deep`));
  // What was left is tried again, once nobody has it open.
  faults.locked = [];
  const rest = await app.finished(await startedFileRun(app, path, { action: 'trash', rest: run.id }));
  assert.deepEqual(
    [rest.done.messages, rest.asked.messages],
    [1, 1],
    'the others changed, so they are not what was marked',
  );
  assert.deepEqual((await app.call('GET', `${account}/ledger/check`)).body.faults, []);
});

test('where there is no room to make the trash, nothing is moved, and a purge without it works', async () => {
  const { space, app, path, idsOf } = await opened([plainFile('a', 10), plainFile('b', 20)]);
  space.faults.refuse = { method: 'MKCOL', status: 507, times: 99 };
  const run = await app.finished(await startFileRun(app, path, 'trash', { ids: await idsOf('a', 'b') }));
  assert.deepEqual(
    [run.state, run.done.messages, run.left],
    ['done', 0, [{ reason: 'no-room', messages: 2, bytes: 30 }]],
  );
  const purged = await app.finished(await startFileRun(app, path, 'purge', { ids: await idsOf('a') }));
  assert.deepEqual([purged.done, space.tree.files.size], [{ messages: 1, bytes: 10 }, 1]);
});

for (const shape of ['one folder', 'many folders, scattered'] as const)
  test(`each file is in one place, whatever answers are lost and workers killed: ${shape}`, async () => {
    const name = (index: number) => (shape === 'one folder' ? `all/${index}` : `f${index % 37}/g${index % 5}/${index}`);
    const files = Array.from({ length: 400 }, (_, index) => plainFile(name(index), 1 + (index % 7)));
    const { space, app, account, path } = await opened(files);
    const before = contents(space);
    const known = [...(await filesIn(app, path)).values()];
    const ids = known.filter((_, index) => shape === 'one folder' || index % 2 === 0).map(({ id }) => id);
    space.faults.latencyMs = 5;
    space.faults.dropAnswerTo = { method: 'MOVE', times: 5 };
    const asked = await startFileRun(app, path, 'trash', { ids });
    for (const method of ['MOVE', 'MKCOL', 'PROPFIND']) {
      await sleep(400);
      await app.killWorker();
      space.faults.dropAnswerTo = { method, times: 3 };
      app.startWorker();
    }
    const run = await app.finished(asked);
    assert.deepEqual([run.state, run.left, run.done.messages], ['done', [], ids.length]);
    const now = contents(space);
    assert.equal(now.size, before.size);
    for (const [file, octets] of before) {
      const places = [file, inTrash(run, file)].filter((place) => now.has(place));
      assert.equal(places.length, 1, file);
      assert.equal(now.get(places[0] as string), octets);
    }
    assert.deepEqual(await indexed(app), there(space));
    space.faults.dropAnswerTo = { method: 'DELETE', times: 5 };
    const purging = await startedFileRun(app, path, { action: 'purge', run: run.id });
    await sleep(500);
    await app.killWorker();
    app.startWorker();
    const purged = await app.finished(purging);
    assert.deepEqual([purged.left, purged.done], [[], run.done]);
    assert.equal(space.tree.files.size, before.size - ids.length);
    assert.deepEqual(await indexed(app), there(space));
    assert.deepEqual((await app.call('GET', `${account}/ledger/check`)).body.faults, []);
  });

test('a run on files is paused, goes on, and is cancelled; what it did stays, and the file space can’t be forgotten meanwhile', async () => {
  const files = Array.from({ length: 300 }, (_, index) => plainFile(`${index}`, 3));
  const { space, app, account, path } = await opened(files);
  space.faults.latencyMs = 10;
  const run = await startFileRun(app, path, 'trash', { folder: '' });
  await until(async () => (await app.call('GET', run)).body.done.messages > 0);
  assert.equal((await app.call('DELETE', path)).status, 409);
  await app.call('POST', `${run}/pause`);
  const paused = await app.finished(run);
  assert.equal(paused.state, 'paused');
  assert.equal((await app.call('DELETE', path)).status, 409, 'it is not over');
  assert.ok(paused.done.messages < 300);
  await app.call('POST', `${run}/resume`);
  await until(async () => (await app.call('GET', run)).body.done.messages > paused.done.messages);
  await app.call('POST', `${run}/cancel`);
  const cancelled = await app.finished(run);
  assert.equal(cancelled.state, 'cancelled');
  assert.deepEqual(
    cancelled.left.map(({ reason, messages }: any) => [reason, messages]),
    [['cancelled', 300 - cancelled.done.messages]],
  );
  const moved = [...space.tree.files.keys()].filter((file) => file.startsWith(`${ROOT}Trash/`)).length;
  assert.equal(moved, cancelled.done.messages);
  assert.equal((await app.call('DELETE', path)).status, 204);
  assert.deepEqual((await app.call('GET', `${account}/ledger/check`)).body.faults, []);
});

test('a run whose file space lets nobody in any more is cancelled all the same, and says what it left', async () => {
  const { space, app, account, path, idsOf } = await opened([plainFile('a', 10), plainFile('b', 20)]);
  const ids = await idsOf('a', 'b');
  space.faults.refuse = { method: 'PROPFIND', status: 401, times: 1_000 };
  const run = await startFileRun(app, path, 'trash', { ids });
  const failed = await app.finished(run);
  assert.deepEqual([failed.state, failed.problem.kind], ['failed', 'no-mechanism']);
  await app.call('POST', `${run}/cancel`);
  await until(async () => (await app.call('GET', run)).body.state === 'cancelled');
  const { done, left } = (await app.call('GET', run)).body;
  assert.deepEqual([done.messages, left], [0, [{ reason: 'cancelled', messages: 2, bytes: 30 }]]);
  assert.deepEqual((await app.call('GET', `${account}/ledger/check`)).body.faults, []);
  assert.equal((await app.call('DELETE', path)).status, 204);
});
