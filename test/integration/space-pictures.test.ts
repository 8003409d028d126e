import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { filesOf, SHARED } from '../../stand-in/scenario/files';
import { addSpace, contents, ROOT, startedFileRun, startFileSpace } from '../file-space';
import { App, cleanUp, DAY, startStandIn, tinyScenario } from '../harness';

after(cleanUp);

const END = Date.parse(`${DAY}T18:00:00Z`) / 1000;

async function compared() {
  const tiny = tinyScenario();
  const told = { ...tiny, messages: tiny.messages.slice(0, 200), notMail: 9_000_000 };
  const host = await startStandIn({ scenario: told });
  const space = await startFileSpace(host, filesOf(told, END), SHARED);
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const summary = async () => (await app.call('GET', `${account}/repeats`)).body;
  const inMail = (await summary()).unread.pictures.files;
  const path = await addSpace(app, account, space);
  assert.equal((await summary()).unread.pictures.files, inMail + 21);
  await app.call('POST', `${account}/repeats/compare`, { what: 'pictures' });
  for (;;) {
    const proof = (await summary()).proofs.find(({ what }: any) => what === 'pictures');
    if (proof.state === 'done') break;
    assert.notEqual(proof.state, 'failed', proof.problem?.detail);
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
  const series = async () => (await app.call('GET', `${account}/repeats/space-pictures`)).body.series;
  return { space, app, account, path, summary, series };
}

test('pictures of a file space nearly alike are told, and those that somebody chose go to its trash; one of each series stays', async () => {
  const { space, app, account, path, summary, series } = await compared();
  const found = await series();
  const byFolder = (folder: string) => found.find(({ pictures }: any) => pictures[0].path.startsWith(folder));
  const [evening, winners] = [byFolder('Open days/2024/Evening/'), byFolder('Open days/2025/Winners/')];
  assert.deepEqual([found.length, evening.pictures.length, winners.pictures.length], [2, 12, 9]);
  const told = await summary();
  const inMail = (await app.call('GET', `${account}/repeats/pictures?limit=100`)).body.series;
  const besideInMail = inMail.reduce((sum: number, { pictures }: any) => sum + pictures.length - 1, 0);
  assert.deepEqual(
    [told.unread.pictures.files, told.pictures.series, told.pictures.beside.files],
    [0, inMail.length + 2, besideInMail + 19],
  );
  const preview = await fetch(`${app.origin}/api${account}/space-files/${evening.best}/preview?size=large`, {
    headers: { cookie: app.cookie },
  });
  assert.deepEqual([preview.status, preview.headers.get('content-type')], [200, 'image/webp']);

  const beside = ({ best, pictures }: any) =>
    pictures.map(({ file }: any) => file).filter((file: number) => file !== best);
  const all = await app.call('POST', `${account}/repeats/space-pictures/lots`, {
    files: [...beside(evening), evening.best],
  });
  assert.equal(all.status, 422, 'not all of a series');
  const lots = [];
  for (const one of [evening, winners]) {
    const lot = await app.call('POST', `${account}/repeats/space-pictures/lots`, { files: beside(one) });
    assert.deepEqual([lot.status, lot.body.files], [201, one.pictures.length - 1]);
    lots.push(lot.body.id);
  }
  assert.deepEqual(await series(), [], 'what is marked is told no more');
  // Who marks the one that was to stay as well is told so.
  const rest = await app.call('POST', `${path}/lots`, { ids: [winners.best] });
  const refused = await app.call('POST', `${path}/runs`, { action: 'trash', lots: [...lots, rest.body.id] });
  assert.deepEqual([refused.status, refused.body.type.split('/').pop()], [409, 'would-take-last']);
  await app.call('DELETE', `${account}/file-lots/${rest.body.id}`);

  // The best of the evening has gone since: none of them goes.
  const bestOf = ({ best, pictures }: any) => pictures.find(({ file }: any) => file === best).path;
  space.tree.remove(`${ROOT}${bestOf(evening).split('/').map(encodeURIComponent).join('/')}`);
  const before = contents(space);
  const run = await app.finished(await startedFileRun(app, path, { action: 'trash', lots }));
  assert.deepEqual(
    [run.done.messages, run.left.map(({ reason, messages }: any) => [reason, messages])],
    [8, [['last-copy', 11]]],
  );
  const now = contents(space);
  assert.equal(now.size, before.size);
  assert.equal([...now.keys()].filter((file) => file.startsWith(`${ROOT}Trash/`)).length, 8);
  // In the trash they are none of the series any more, and can be purged.
  const purged = await app.finished(await startedFileRun(app, path, { action: 'purge', run: run.id }));
  assert.deepEqual([purged.done, purged.left], [run.done, []]);
  assert.ok(now.has(`${ROOT}${bestOf(winners).split('/').map(encodeURIComponent).join('/')}`));
});
