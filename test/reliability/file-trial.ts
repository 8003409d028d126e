import assert from 'node:assert/strict';
import { setTimeout as sleep } from 'node:timers/promises';
import { Vault } from '../../src/store/access/vault';
import { verifyLedger } from '../../src/store/runs/ledger-verification';
import { noFaults } from '../../stand-in/faults';
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
const FOLDERS = ['', 'Plans/', 'Open%20days/2024/', 'Open%20days/2025/', 'M%C3%B6wen/%26%23/', '.deep/a/b/c/d/'];

/**
 * Files of a file space that go to its trash, come back and are purged while everything fails at random points and others change what
 * lies there. No file is in neither place, none is put over another, none goes that had changed, and each that is said to be done was.
 */
export async function fileTrial(app: App, seed: number): Promise<TrialReport> {
  const random = new Random(seedOf(seed, 3));
  const host = await freshHost({ scenario: EMPTY, user: USER, password: PASSWORD });
  const report: TrialReport = { runs: 0, messages: 0, strikes: {}, left: {}, acts: 0, late: 0, story: [] };
  let space: FileSpaceServer | undefined;
  try {
    const files = Array.from({ length: random.between(30, 140) }, (_, number) => {
      const octets = Buffer.from(`file ${number} `.repeat(random.between(1, 40)));
      const path = `${random.pick(FOLDERS)}${number}%20${random.pick(['plan.pdf', 'a%3Bb.txt', '100%25', '%C3%BC.jpg'])}`;
      return { path, size: octets.length, octets: () => octets, type: 'text/plain', modified: 1_600_000_000 };
    });
    const tree = new WatchedTree(files, [], undefined);
    host.mailbox.shareWith(() => tree.bytes);
    space = await FileSpaceServer.start({ tree, user: USER, password: PASSWORD, room: host.mailbox });
    const around = {
      sameEtag: random.chance(0.2),
      noSync: random.chance(0.4),
      terse: random.chance(0.3),
      locked: random.chance(0.3) ? [...tree.files.keys()].filter(() => random.chance(0.04)) : [],
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
      // What a tag hides can be seen by a look alone, and not between the look and what follows.
      if (!around.sameEtag || random.chance(0.5)) meddle(tree, random, report);
      for (let acts = random.below(6); acts > 0; acts--) {
        await sleep(random.between(0, 300));
        if (random.chance(0.7)) await strikes.one(run);
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
      before = id;
    }
    await app.call('POST', `${path}/listings`);
    await listed(app, account);
    await isIndexed(app, path, tree);
    const verdict = await verifyLedger(app.database, Vault.open(app.keyFile), Number(account.split('/').at(-1)));
    assert.deepEqual(verdict.faults, []);
    await app.call('DELETE', account);
    return report;
  } catch (error) {
    (error as Error).message = `file seed ${seed}: ${(error as Error).message}\n${report.story.join('\n')}`;
    throw error;
  } finally {
    await space?.stop();
    await host.stop();
  }
}

/** Starts a run: on marked files, or on what the run before brought to the trash. */
async function asked(
  app: App,
  path: string,
  before: number | undefined,
  random: Random,
  report: TrialReport,
): Promise<number | undefined> {
  let body: object = random.chance(0.3) ? { action: 'purge', trash: true } : { action: 'restore', run: before };
  if (before === undefined || random.chance(0.3)) {
    const fate = random.chance(0.75) ? 'trash' : 'purge';
    const known = [...(await filesIn(app, path)).values()];
    const share = random.pick([0.1, 0.5, 1]);
    const ids = known.filter(() => random.chance(share)).map(({ id }) => id);
    const lot = await app.call('POST', `${path}/lots`, { fate, ids });
    if (lot.status !== 201) return undefined;
    body = { action: fate, lots: [lot.body.id] };
  }
  const answer = await app.call('POST', `${path}/runs`, body);
  if (answer.status !== 202) {
    assert.ok(['nothing-to-do', 'invalid'].includes(answer.body.type.split('/').pop()), JSON.stringify(answer.body));
    return undefined;
  }
  report.runs++;
  report.messages += answer.body.asked.messages;
  report.story.push(`run ${answer.body.id}: ${JSON.stringify(body)}, ${answer.body.asked.messages} files`);
  return answer.body.id;
}

/** The server of the file space fails now and then. */
function fail(space: FileSpaceServer, random: Random): void {
  const method = random.pick(['PROPFIND', 'MOVE', 'MOVE', 'DELETE', 'MKCOL']);
  if (random.chance(0.25)) space.faults.refuse = { method, status: random.pick([503, 429, 504]), times: 1 };
  if (random.chance(0.3)) space.faults.dropAnswerTo = { method, times: random.between(1, 3) };
  if (random.chance(0.2)) space.faults.cutAfter = { octets: random.below(900), times: 1 };
  space.faults.latencyMs = random.below(30);
}

/** The run's account of itself against what happened to each file. */
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
  const left = run.left.reduce((sum: number, { messages }: any) => sum + messages, 0);
  assert.equal(run.done.messages + left, run.asked.messages, 'done and left are what was asked');
  const acts = tree.acts.slice(since);
  const ours = acts.filter(({ actor }) => actor === 'ours');
  for (const { op, path: file, over, content } of ours) {
    assert.equal(over, undefined, `${op} of ${file} put something over another file`);
    assert.ok(op !== 'put', 'a run writes nothing of its own');
    assert.ok(frozen.has(file), `${op} of ${file}, which nobody asked for`);
    assert.equal(content, frozen.get(file), `${op} of ${file}, which had changed`);
  }
  const touched = new Set(acts.flatMap((act) => (act.actor === 'others' ? [act.path, act.to ?? act.path] : [])));
  const did = new Set(ours.filter(({ op }) => op !== 'copy').map((act) => decodeURIComponent(act.path)));
  for (const { path: shown, outcome } of files) {
    report.left[outcome] = (report.left[outcome] ?? 0) + 1;
    const file = `/files/${shown}`;
    // What others took away while an answer was lost may be said to be done: nobody can tell who was first.
    if (outcome === 'done') assert.ok(did.has(file) || isTouched(touched, file), `${shown} is said to be done`);
    else if (did.has(file)) assert.ok(isTouched(touched, file), `${shown} is said to be left as ${outcome}`);
    else if (outcome !== 'locked' && outcome !== 'cancelled')
      assert.ok(touched.size > 0, `${shown} is left as ${outcome}, though nobody else was there`);
  }
  // What was there and was neither taken away by others nor purged is there: in one place, or two where a server was in between.
  const there = new Set([...tree.files.keys()].map((file) => tree.contentOf(file)));
  const taken = new Set(
    acts
      .filter(({ actor, op }) => (actor === 'others' && op !== 'move') || (run.action === 'purge' && op === 'remove'))
      .map(({ content }) => content),
  );
  for (const [file, content] of frozen)
    assert.ok(there.has(content) || taken.has(content), `${file} is in neither place`);
}

function isTouched(touched: ReadonlySet<string>, file: string): boolean {
  return [...touched].some((one) => decodeURIComponent(one) === file);
}
