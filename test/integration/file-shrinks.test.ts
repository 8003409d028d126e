import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { setTimeout as sleep } from 'node:timers/promises';
import { memberPath } from '../../src/core/space/path';
import { filesOf, SHARED } from '../../stand-in/scenario/files';
import type { ScenarioFile } from '../../stand-in/webdav/tree';
import {
  addSpace,
  contents,
  filesIn,
  indexed,
  listed,
  plainFile,
  ROOT,
  startedFileRun,
  startFileSpace,
  there,
} from '../file-space';
import { App, cleanUp, DAY, demoScenario, startStandIn } from '../harness';

after(cleanUp);

const END = Date.parse(`${DAY}T18:00:00Z`) / 1000;
const SMALLER = { longest: 1600, place: 'keep' };

async function opened(files: readonly ScenarioFile[]) {
  const told = demoScenario();
  const host = await startStandIn({ scenario: { ...told, messages: told.messages.slice(0, 50) } });
  const space = await startFileSpace(host, files, SHARED);
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const path = await addSpace(app, account, space);
  const lotOf = async (named: object) => {
    const { status, body } = await app.call('POST', `${path}/lots`, { fate: 'shrink', shrinking: SMALLER, ...named });
    assert.equal(status, 201, JSON.stringify(body));
    return body;
  };
  return { host, space, app, account, path, lotOf };
}

/** Photographs of the demo's file space. */
function photographs(): ScenarioFile[] {
  return filesOf(demoScenario(), END).filter(({ path, type }) => type === 'image/jpeg' && path.startsWith('Open'));
}

/** Where the original of a path lies once a run has brought it to the trash. */
function inTrash(run: any, file: string): string {
  const folder = memberPath(`${ROOT}Trash/`, `${run.createdAt.slice(0, 10)} run ${run.id}`, true);
  return folder + file.slice(ROOT.length);
}

test('pictures of the file space are made smaller: the originals lie in the trash, come back, and the purge wins what they had', async () => {
  const { space, app, account, path, lotOf } = await opened(photographs().slice(0, 6));
  const before = contents(space);
  const [first] = [...(await filesIn(app, path)).values()];
  const example = await app.call('GET', `${account}/space-files/${first.id}/smaller?longest=1600`);
  assert.equal(example.status, 200, JSON.stringify(example.body));
  assert.ok(example.body.before === first.bytes && example.body.after < 0.7 * first.bytes);
  const lot = await lotOf({ folder: 'Open days' });
  assert.equal(lot.files, before.size);
  assert.equal((await app.call('POST', `${path}/lots`, { fate: 'shrink', folder: '' })).status, 422);
  const run = await app.finished(await startedFileRun(app, path, { action: 'shrink', lots: [lot.id] }));
  assert.deepEqual([run.state, run.left], ['done', []], JSON.stringify(run.left));
  assert.deepEqual(run.done, {
    messages: before.size,
    bytes: [...before.values()].reduce((sum, one) => sum + one.length, 0),
  });
  const now = contents(space);
  let added = 0;
  for (const [file, octets] of before) {
    assert.equal(now.get(inTrash(run, file)), octets, 'the original is whole');
    const smaller = now.get(file) as string;
    assert.ok(smaller.length < 0.7 * octets.length && smaller.startsWith('\xff\xd8\xff'), file);
    added += smaller.length;
  }
  assert.equal(now.size, 2 * before.size, 'nothing else is left');
  assert.deepEqual(run.added, { messages: before.size, bytes: added });
  assert.deepEqual(await indexed(app), there(space));
  // Back: the smaller ones give way.
  const back = await app.finished(await startedFileRun(app, path, { action: 'restore', run: run.id }));
  assert.deepEqual([back.state, back.left, back.done], ['done', [], run.done]);
  for (const [file, octets] of before) assert.equal(contents(space).get(file), octets);
  assert.deepEqual(await indexed(app), there(space));
  // Again, with one that somebody changes afterwards: it does not give way.
  const again = await lotOf({ folder: 'Open days' });
  const second = await app.finished(await startedFileRun(app, path, { action: 'shrink', lots: [again.id] }));
  assert.equal(second.done.messages, before.size);
  const [changed] = [...before.keys()];
  space.tree.put(changed as string, Buffer.from('drawn over'), 'image/jpeg');
  const undo = await app.finished(await startedFileRun(app, path, { action: 'restore', run: second.id }));
  assert.deepEqual(
    undo.left.map(({ reason, messages }: any) => [reason, messages]),
    [['there', 1]],
  );
  assert.equal(contents(space).get(changed as string), 'drawn over');
  const purge = await app.finished(await startedFileRun(app, path, { action: 'purge', trash: true }));
  assert.deepEqual(purge.left, []);
  assert.equal(space.tree.files.size, before.size);
  assert.deepEqual((await app.call('GET', `${account}/ledger/check`)).body.faults, []);
});

test('what is no picture, has no gain, was changed, or has no room is left as it is', async () => {
  const [one, two, three] = photographs();
  assert.ok(one && two && three);
  const small = plainFile('small.jpg', 900);
  const { space, app, account, path, lotOf } = await opened([
    one,
    two,
    three,
    { ...small, type: 'image/jpeg' },
    plainFile('plan.txt', 50),
  ]);
  const before = contents(space);
  const lot = await lotOf({ folder: '' });
  assert.equal(lot.files, 4, 'pictures alone');
  const [changed] = [...space.tree.files.keys()].filter((file) => file.includes('IMG'));
  space.tree.put(changed as string, Buffer.from('another'), 'image/jpeg');
  space.faults.refuse = { method: 'PUT', status: 507, times: 1 };
  const run = await app.finished(await startedFileRun(app, path, { action: 'shrink', lots: [lot.id] }));
  assert.deepEqual(
    run.left.map(({ reason, messages }: any) => [reason, messages]),
    [
      ['changed', 1],
      ['no-room', 1],
      ['not-decoded', 1],
    ],
  );
  assert.equal(run.done.messages, 1);
  const now = contents(space);
  const untouched = [...before].filter(([file, octets]) => now.get(file) === octets);
  assert.equal(untouched.length, 3);
  assert.equal([...now.keys()].filter((file) => file.includes('smaller')).length, 0, 'nothing half done is left');
  await listed(app, account);
  assert.deepEqual((await app.call('GET', `${path}/files?limit=100`)).body.files.length, now.size);
});

test('where the server does not say what became of an original, that is what the run says, and the next listing finds it', async () => {
  const { space, app, account, path, lotOf } = await opened(photographs().slice(0, 2));
  const before = contents(space);
  const lot = await lotOf({ folder: '' });
  space.faults.hidden = '%20run%201/';
  const run = await app.finished(await startedFileRun(app, path, { action: 'shrink', lots: [lot.id] }));
  assert.deepEqual(
    [run.state, run.done.messages, run.left.map(({ reason, messages }: any) => [reason, messages])],
    ['done', 0, [['unknown', before.size]]],
  );
  const now = contents(space);
  assert.equal(now.size, before.size, 'nothing half done is left');
  for (const [file, octets] of before) assert.equal(now.get(inTrash(run, file)), octets, 'the original is whole');
  space.faults.hidden = null;
  await listed(app, account);
  assert.deepEqual(await indexed(app), there(space));
});

test('whatever is lost and whoever is killed, the original is whole in one place, and a smaller picture stands for it or it does itself', async () => {
  const { space, app, path, lotOf } = await opened(photographs().slice(0, 12));
  const before = contents(space);
  const lot = await lotOf({ folder: '' });
  space.faults.latencyMs = 10;
  space.faults.dropAnswerTo = { method: 'MOVE', times: 3 };
  const asked = await startedFileRun(app, path, { action: 'shrink', lots: [lot.id] });
  for (const method of ['PUT', 'MOVE', 'MOVE', 'GET', 'DELETE']) {
    await sleep(400);
    await app.killWorker();
    space.faults.dropAnswerTo = { method, times: 3 };
    space.faults.keepPart = { octets: 900, times: 1 };
    app.startWorker();
  }
  const run = await app.finished(asked);
  assert.deepEqual([run.state, run.left, run.done.messages], ['done', [], before.size], JSON.stringify(run));
  const now = contents(space);
  for (const [file, octets] of before) {
    assert.equal(now.get(inTrash(run, file)), octets, file);
    const smaller = now.get(file);
    assert.ok(smaller && smaller.length < octets.length && smaller.startsWith('\xff\xd8\xff'), file);
  }
  assert.equal(now.size, 2 * before.size);
  assert.deepEqual(await indexed(app), there(space));
});
