import assert from 'node:assert/strict';
import { setTimeout as sleep } from 'node:timers/promises';
import { noFaults } from '../../stand-in/faults';
import { Random, seedOf } from '../../stand-in/message/random';
import { noSpaceFaults } from '../../stand-in/webdav/faults';
import { FileSpaceServer } from '../../stand-in/webdav/server';
import { addSpace, isIndexed, listed } from '../file-space';
import { type App, hosted, indexed, PASSWORD, USER } from '../harness';
import { freshHost } from './fresh-host';
import { FOLDERS, fill } from './letters';
import { Strikes } from './strikes';
import { ended, type TrialReport } from './trial';
import { WatchedTree } from './watched-tree';

const EMPTY = { messages: [], limit: 10 ** 9, notMail: 10 ** 6 };

/**
 * Files of letters that are put into a file space while everything fails at random points and others put, change and delete files there.
 * Nothing is put over another file, nothing of others goes, and each file that is said to lie there lies there whole, once.
 */
export async function uploadTrial(app: App, seed: number): Promise<TrialReport> {
  const random = new Random(seedOf(seed, 4));
  const folders = [...FOLDERS.map((name) => ({ name })), { name: 'Trash', use: '\\Trash' as const }];
  const host = await freshHost({ scenario: { ...EMPTY, folders }, user: USER, password: PASSWORD });
  const report: TrialReport = { runs: 0, messages: 0, strikes: {}, left: {}, acts: 0, late: 0, story: [] };
  let space: FileSpaceServer | undefined;
  try {
    const { files } = fill(host, random, 'space');
    const octets = new Set(files.map((file) => file.octets.toString('latin1')));
    const own = Buffer.from('a file of mine');
    const tree = new WatchedTree(
      [{ path: 'mine.txt', size: own.length, octets: () => own, type: 'text/plain', modified: 1_600_000_000 }],
      [],
      undefined,
    );
    host.mailbox.shareWith(() => tree.bytes);
    space = await FileSpaceServer.start({ tree, user: USER, password: PASSWORD, room: host.mailbox });
    const around = { sameEtag: random.chance(0.2), noSync: random.chance(0.4) };
    host.faults = { ...noFaults(), latencyMs: random.between(0, 20) };
    app.forgetCookie();
    const account = await app.signIn({ port: host.plainPort });
    assert.equal((await app.scanned(account)).state, 'done');
    const path = await addSpace(app, account, space);
    Object.assign(space.faults, around);
    const { status, body } = await app.call('POST', `${path}/uploads`, { where: '' });
    assert.equal(status, 202, JSON.stringify(body));
    assert.equal(body.asked.files, files.length);
    report.runs++;
    report.messages += files.length;
    const upload = `${account}/uploads/${body.id}`;
    const strikes = new Strikes(app, host, random, report);
    const failing = space;
    const trouble = setInterval(() => fail(failing, random), 100);
    for (let acts = random.between(1, 8); acts > 0; acts--) {
      await sleep(random.between(0, 300));
      if (random.chance(0.6)) await strikes.one(upload);
      else meddle(tree, random, report);
      report.acts++;
    }
    clearInterval(trouble);
    strikes.calm();
    host.faults = noFaults();
    Object.assign(space.faults, noSpaceFaults(), around);
    await ended(app, upload, report);
    await check(app, upload, tree, octets, files.length, report);
    await app.call('POST', `${path}/listings`);
    await listed(app, account);
    await isIndexed(app, path, tree);
    assert.deepEqual(await indexed(app, account), hosted(host), 'the mailbox is as it was');
    await app.call('DELETE', account);
    return report;
  } catch (error) {
    (error as Error).message = `upload seed ${seed}: ${(error as Error).message}\n${report.story.join('\n')}`;
    throw error;
  } finally {
    await space?.stop();
    await host.stop();
  }
}

/** Another program puts, changes or deletes something, also where files are about to be put. */
function meddle(tree: WatchedTree, random: Random, report: TrialReport): void {
  const path = random.pick([...tree.files.keys()]);
  if (path === undefined) return;
  const act = random.pick(['remove', 'put', 'beside'] as const);
  report.story.push(`others ${act} ${path}`);
  const text = Buffer.from(`other ${tree.acts.length} `.repeat(random.between(1, 90)));
  tree.asOther(() => {
    if (act === 'remove') tree.remove(path);
    // Where the next file of the same name would go.
    else tree.put(act === 'put' ? path : path.replace(/(\.[^.]*)$/, '%20%282%29$1'), text, 'text/plain');
  });
}

function fail(space: FileSpaceServer, random: Random): void {
  const method = random.pick(['PROPFIND', 'PUT', 'PUT', 'GET', 'MKCOL']);
  if (random.chance(0.25)) space.faults.refuse = { method, status: random.pick([503, 429, 504]), times: 1 };
  if (random.chance(0.3)) space.faults.dropAnswerTo = { method, times: random.between(1, 3) };
  if (random.chance(0.2)) space.faults.cutAfter = { octets: random.below(60_000), times: 1 };
  if (random.chance(0.2)) space.faults.keepPart = { octets: random.below(50_000), times: 1 };
  space.faults.latencyMs = random.below(20);
}

/** What the upload says of itself against what happened to each file. */
async function check(
  app: App,
  upload: string,
  tree: WatchedTree,
  octets: ReadonlySet<string>,
  asked: number,
  report: TrialReport,
): Promise<void> {
  const { files } = (await app.call('GET', `${upload}/files?limit=1000`)).body;
  assert.equal(files.length, asked, 'every file is told of');
  const mine = new Set<string>();
  for (const { actor, op, path, over, content } of tree.acts) {
    if (actor !== 'ours') continue;
    if (op === 'put') {
      assert.equal(over, undefined, `${path} was put over another file`);
      mine.add(path);
      continue;
    }
    assert.equal(op, 'remove');
    assert.ok(mine.has(path), `${path} was taken away, which was not put there`);
    const isPart = [...octets].some((whole) => content !== whole && whole.startsWith(content ?? '-'));
    assert.ok(isPart, `${path} was taken away, which was no part of a file`);
  }
  const touched = new Set(tree.acts.filter(({ actor }) => actor === 'others').map(({ path }) => path));
  const told = new Set<string>();
  for (const { path, state, reason = state } of files) {
    report.left[reason] = (report.left[reason] ?? 0) + 1;
    if (state !== 'done' || path === undefined) continue;
    const file = [...tree.files.keys()].find((one) => decodeURIComponent(one) === `/files/${path}`);
    const isTouched = [...touched].some((one) => decodeURIComponent(one) === `/files/${path}`);
    if (isTouched) continue;
    assert.ok(file !== undefined && octets.has(tree.contentOf(file) as string), `${path} lies there whole`);
    told.add(file);
  }
  // What lies there and is told of by nobody was sent, and its answer lost: at most once for each time that happened.
  const untold = [...mine].filter((path) => tree.files.has(path) && !told.has(path) && !touched.has(path));
  report.late += untold.length;
}
