import assert from 'node:assert/strict';
import { setTimeout as sleep } from 'node:timers/promises';
import { Vault } from '../../src/store/access/vault';
import { verifyLedger } from '../../src/store/runs/ledger-verification';
import { noFaults } from '../../stand-in/faults';
import { photograph } from '../../stand-in/files/photograph';
import { Random, seedOf } from '../../stand-in/message/random';
import { noSpaceFaults } from '../../stand-in/webdav/faults';
import { FileSpaceServer } from '../../stand-in/webdav/server';
import { addSpace, filesIn, isIndexed, listed } from '../file-space';
import { type App, PASSWORD, USER } from '../harness';
import { freshHost } from './fresh-host';
import { meddle } from './meddling';
import { Strikes } from './strikes';
import { ended, type TrialReport } from './trial';
import { WatchedTree } from './watched-tree';

const EMPTY = { messages: [], folders: [{ name: 'INBOX' }], limit: 10 ** 9, notMail: 10 ** 6 };
const FOLDERS = ['', 'Open%20days/2024/', 'M%C3%B6wen/%26%23/'];
const VIEWS = 3;
const OCTETS = 150_000;

/**
 * Pictures of a file space that are made smaller, and come back, while everything fails at random points and others change what lies
 * there. Each original is whole in one of two places, nothing is put over a file, and what a run takes away it had put there itself.
 */
export async function pictureTrial(app: App, seed: number): Promise<TrialReport> {
  const random = new Random(seedOf(seed, 5));
  const host = await freshHost({ scenario: EMPTY, user: USER, password: PASSWORD });
  const report: TrialReport = { runs: 0, messages: 0, strikes: {}, left: {}, acts: 0, late: 0, story: [] };
  let space: FileSpaceServer | undefined;
  try {
    const files = Array.from({ length: random.between(4, 24) }, (_, number) => {
      // What stands behind the end of a picture tells it from the others (ITU-T T.81 B.2: a decoder stops there).
      const picture = photograph(seedOf(1, number % VIEWS), OCTETS, { view: number % VIEWS });
      const octets = random.chance(0.85)
        ? Buffer.concat([picture, Buffer.from(`${number}`)])
        : Buffer.from(`no picture ${number}`);
      const path = `${random.pick(FOLDERS)}${number}%20${random.pick(['a%3Bb.jpg', '%C3%BC.jpg', 'IMG.JPG'])}`;
      return { path, size: octets.length, octets: () => octets, type: 'image/jpeg', modified: 1_600_000_000 };
    });
    const tree = new WatchedTree(files, [], undefined);
    host.mailbox.shareWith(() => tree.bytes);
    space = await FileSpaceServer.start({ tree, user: USER, password: PASSWORD, room: host.mailbox });
    const around = {
      sameEtag: random.chance(0.2),
      noSync: random.chance(0.4),
      terse: random.chance(0.3),
      locked: random.chance(0.3) ? [...tree.files.keys()].filter(() => random.chance(0.1)) : [],
      slowMoveMs: random.chance(0.3) ? random.between(5, 300) : 0,
    };
    report.story.push(JSON.stringify(around));
    Object.assign(space.faults, around);
    app.forgetCookie();
    const account = await app.signIn({ port: host.plainPort });
    assert.equal((await app.scanned(account)).state, 'done');
    const path = await addSpace(app, account, space);
    const strikes = new Strikes(app, host, random, report);
    let before: number | undefined;
    for (let runs = random.between(1, 3); runs > 0; runs--) {
      const since = tree.acts.length;
      const frozen = new Map([...tree.files.keys()].map((file) => [file, tree.contentOf(file)]));
      const id = await asked(app, path, before, random, report);
      if (id === undefined) break;
      const run = `${account}/runs/${id}`;
      const trouble = setInterval(() => fail(space as FileSpaceServer, random), 100);
      for (let acts = random.between(1, 8); acts > 0; acts--) {
        await sleep(random.between(0, 400));
        if (random.chance(0.7)) await strikes.one(run);
        // A change that no tag tells can't be seen between a look and what follows.
        else if (!around.sameEtag) meddle(tree, random, report);
        report.acts++;
      }
      clearInterval(trouble);
      strikes.calm();
      host.faults = noFaults();
      Object.assign(space.faults, noSpaceFaults(), around);
      await ended(app, run, report);
      await check(app, run, tree, since, frozen, report);
      await listed(app, account);
      before = before === undefined ? id : undefined;
    }
    await app.call('POST', `${path}/listings`);
    await listed(app, account);
    await isIndexed(app, path, tree);
    const verdict = await verifyLedger(app.database, Vault.open(app.keyFile), Number(account.split('/').at(-1)));
    assert.deepEqual(verdict.faults, []);
    await app.call('DELETE', account);
    return report;
  } catch (error) {
    (error as Error).message = `picture seed ${seed}: ${(error as Error).message}\n${report.story.join('\n')}`;
    throw error;
  } finally {
    await space?.stop();
    await host.stop();
  }
}

/** Starts a run: on marked pictures, or on what the run before brought to the trash. */
async function asked(
  app: App,
  path: string,
  before: number | undefined,
  random: Random,
  report: TrialReport,
): Promise<number | undefined> {
  let body: object = { action: 'restore', run: before };
  if (before === undefined) {
    const ids = [...(await filesIn(app, path)).values()].filter(() => random.chance(0.8)).map(({ id }) => id);
    const shrinking = { longest: 1600, place: random.pick(['keep', 'remove']) };
    const lot = await app.call('POST', `${path}/lots`, { fate: 'shrink', shrinking, ids });
    if (lot.status !== 201) return undefined;
    body = { action: 'shrink', lots: [lot.body.id] };
  }
  const answer = await app.call('POST', `${path}/runs`, body);
  if (answer.status !== 202) {
    assert.equal(answer.body.type.split('/').pop(), 'nothing-to-do', JSON.stringify(answer.body));
    return undefined;
  }
  report.runs++;
  report.messages += answer.body.asked.messages;
  report.story.push(`run ${answer.body.id}: ${JSON.stringify(body)}, ${answer.body.asked.messages} files`);
  return answer.body.id;
}

/** The server of the file space fails now and then. */
function fail(space: FileSpaceServer, random: Random): void {
  const method = random.pick(['PROPFIND', 'MOVE', 'MOVE', 'PUT', 'GET', 'DELETE', 'MKCOL']);
  if (random.chance(0.25)) space.faults.refuse = { method, status: random.pick([503, 429, 504, 507]), times: 1 };
  if (random.chance(0.3)) space.faults.dropAnswerTo = { method, times: random.between(1, 3) };
  if (random.chance(0.2)) space.faults.cutAfter = { octets: random.below(60_000), times: 1 };
  if (random.chance(0.2)) space.faults.keepPart = { octets: random.below(50_000), times: 1 };
  space.faults.latencyMs = random.below(30);
}

/** The run's account of itself against what happened to each picture. */
async function check(
  app: App,
  path: string,
  tree: WatchedTree,
  since: number,
  frozen: ReadonlyMap<string, string | undefined>,
  report: TrialReport,
): Promise<void> {
  const run = (await app.call('GET', path)).body;
  const { files } = (await app.call('GET', `${path}/files?limit=1000`)).body;
  assert.equal(files.length, run.asked.messages, 'every member is listed');
  const isShrink = run.action === 'shrink';
  const acts = tree.acts.slice(since);
  const made = new Set<string>();
  const copied = new Map<string, string | undefined>();
  for (const { actor, op, path: file, over, content } of acts) {
    if (actor !== 'ours') continue;
    assert.equal(over, undefined, `${op} of ${file} put something over another file`);
    if (op === 'put') {
      assert.ok(isShrink && isStaged(file), `${file} was put, which is no smaller picture in the trash`);
      made.add(file);
    } else if (op === 'remove') {
      // A server that moves between two disks copies first.
      const isKept = copied.get(file) === content;
      assert.ok(isKept || made.has(file), `${file} was taken away, which this run had not put there`);
    } else if (op === 'copy') copied.set(file, content);
    // Originals go as they were frozen; all else that moves is a smaller picture.
    else if (frozen.get(file) !== content) assert.ok(isShrink, `${op} of ${file}, which had changed`);
  }
  const touched = new Set(
    acts.flatMap(({ actor, path: file, to = file }) => (actor === 'others' ? [shownOf(file), shownOf(to)] : [])),
  );
  const there = new Map([...tree.files.keys()].map((file) => [shownOf(file), tree.contentOf(file)]));
  const known = new Map([...frozen].map(([file, content]) => [shownOf(file), content]));
  for (const { path: file, outcome } of files) {
    report.left[outcome] = (report.left[outcome] ?? 0) + 1;
    if (touched.size > 0 && [...touched].some((one) => one.endsWith(file) || isStaged(one))) continue;
    const now = there.get(file);
    if (!isShrink) {
      if (outcome === 'done') assert.equal(there.has(file), false, `${file} came back, and lies in the trash`);
      else assert.equal(now, known.get(file), `${file} is left as ${outcome}`);
      continue;
    }
    if (outcome !== 'done') assert.equal(now, known.get(file), `${file} is left as ${outcome}, and is not as it was`);
    else assert.ok(now?.startsWith('\xff\xd8\xff') && now.length < 0.7 * (known.get(file)?.length ?? 0), `${file}`);
  }
  // What was there and was not taken away by others is there.
  const lying = new Set(there.values());
  const taken = new Set(
    acts.flatMap(({ actor, op, content }) => (actor === 'others' && op !== 'move' ? [content] : [])),
  );
  for (const [file, content] of frozen)
    assert.ok(lying.has(content) || taken.has(content), `${file} is in neither place`);
  // A server may keep what was put before it is asked to take that away; it lies in the trash then.
  report.late += [...tree.files.keys()].filter((file) => made.has(file)).length;
}

const shownOf = (path: string) => decodeURIComponent(path.slice('/files/'.length));

function isStaged(path: string): boolean {
  return /(?:%20| )smaller\/\d+$/.test(path);
}
