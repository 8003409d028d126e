import assert from 'node:assert/strict';
import { setTimeout as sleep } from 'node:timers/promises';
import { memberPath } from '../../src/core/space/path';
import { Vault } from '../../src/store/access/vault';
import { verifyLedger } from '../../src/store/runs/ledger-verification';
import type { Faults } from '../../stand-in/faults';
import { noFaults } from '../../stand-in/faults';
import type { StandIn } from '../../stand-in/host';
import { Random, seedOf } from '../../stand-in/message/random';
import { noSpaceFaults } from '../../stand-in/webdav/faults';
import { FileSpaceServer } from '../../stand-in/webdav/server';
import { FileTree } from '../../stand-in/webdav/tree';
import { addSpace } from '../file-space';
import { type App, hosted, indexed, PASSWORD, USER, until } from '../harness';
import { freshHost } from './fresh-host';
import { type FileOf, FOLDERS, fill } from './letters';
import { Strikes } from './strikes';
import { ended, type TrialReport } from './trial';

const NOTE = 'A file was taken out here';
const EMPTY = { messages: [], limit: 10 ** 9, notMail: 10 ** 6 };

/** Where a letter is, as it was and without its files. */
interface Census {
  originals: Map<string, string[]>;
  replacements: Map<string, string[]>;
}

/**
 * Letters of which files are taken out while everything fails at random points, then the same undone. At every moment each
 * letter is there at least once, whole or without its files; at the end no letter is there twice outside the trash.
 *
 * @param keptIn where the files are that go: in the archive, or in a file space, some of whose files others change or delete.
 */
export async function stripTrial(
  app: App,
  seed: number,
  keptIn: 'archive' | 'space' = 'archive',
): Promise<TrialReport> {
  const random = new Random(seedOf(seed, 2));
  const folders = [...FOLDERS.map((name) => ({ name })), { name: 'Trash', use: '\\Trash' as const }];
  const host = await freshHost({ scenario: { ...EMPTY, folders }, user: USER, password: PASSWORD });
  let space: FileSpaceServer | undefined;
  const report: TrialReport = { runs: 0, messages: 0, strikes: {}, left: {}, acts: 0, late: 0, story: [] };
  try {
    const { letters, files } = fill(host, random, keptIn);
    const around: Partial<Faults> = {
      hide: ['MOVE', 'UIDPLUS', 'OBJECTID', 'QRESYNC'].filter(() => random.chance(0.3)),
      latencyMs: random.between(5, 60),
      noDelete: random.chance(0.1) ? [random.pick(FOLDERS)] : [],
    };
    report.story.push(JSON.stringify(around));
    host.faults = { ...noFaults(), hide: around.hide ?? [] };
    // A session holds a limited number of mailboxes.
    app.forgetCookie();
    const account = await app.signIn({ port: host.plainPort });
    assert.equal((await app.scanned(account)).state, 'done');
    assert.deepEqual(await indexed(app, account), hosted(host), 'the index equals the host before anything is done');
    let lot: { id: number; messages: number };
    let whole = new Set<string>();
    if (keptIn === 'archive') {
      await saved(app, account);
      lot = (await app.call('POST', `${account}/lots`, { fate: 'strip', where: '' })).body;
    } else {
      space = await startSpace(host, files);
      await addSpace(app, account, space);
      lot = await doubledLot(app, account);
      whole = meddled(space, files, random);
      report.story.push(`changed there: ${[...whole].join(', ')}`);
    }
    assert.equal(lot.messages, letters.length, `the lot has every letter: ${JSON.stringify(lot)}`);
    host.faults = { ...noFaults(), ...around };
    const strikes = new Strikes(app, host, random, report);
    const calm = space && troubled(space, random);
    const strip = await carriedOut(
      app,
      account,
      { action: 'strip', lots: [lot.id] },
      { host, random, strikes, letters, around, report, calm },
    );
    settled(host, letters, strip, around);
    const { replacements: made } = census(host);
    for (const subject of whole) assert.deepEqual(outside(made.get(subject)), [], `${subject} keeps its files`);
    if (random.chance(0.6)) {
      const undo = { action: 'restore', run: strip.id };
      const answer = await app.call('POST', `${account}/runs`, undo);
      if (answer.status === 202) {
        host.faults = { ...noFaults(), ...around };
        await carried(app, account, answer.body.id, { host, random, strikes, letters, around, report });
        const { originals, replacements } = census(host);
        for (const subject of letters) {
          assert.equal(outside(originals.get(subject)).length, 1, `${subject} is back`);
          if (around.noDelete?.length === 0)
            assert.deepEqual(outside(replacements.get(subject)), [], `${subject} is there once`);
        }
      }
    }
    host.faults = { ...noFaults(), hide: around.hide ?? [] };
    await app.scanned(account, true);
    assert.deepEqual(await indexed(app, account), hosted(host), 'the index equals the host');
    const verdict = await verifyLedger(app.database, Vault.open(app.keyFile), Number(account.split('/').at(-1)));
    assert.deepEqual(verdict.faults, []);
    return report;
  } catch (error) {
    (error as Error).message = `strip seed ${seed}: ${(error as Error).message}\n${report.story.join('\n')}`;
    throw error;
  } finally {
    await space?.stop();
    await host.stop();
  }
}

async function startSpace(host: StandIn, files: readonly FileOf[]): Promise<FileSpaceServer> {
  const tree = new FileTree(
    files.map(({ name, octets }) => ({
      path: `kept/${memberPath('', name)}`,
      ...{ size: octets.length, octets: () => octets, type: 'image/jpeg', modified: 1_600_000_000 },
    })),
    [],
    undefined,
  );
  host.mailbox.shareWith(() => tree.bytes);
  return FileSpaceServer.start({ tree, user: USER, password: PASSWORD, room: host.mailbox });
}

async function doubledLot(app: App, account: string) {
  await app.call('POST', `${account}/repeats/compare`, { what: 'spaces' });
  await until(async () => {
    const { proofs } = (await app.call('GET', `${account}/repeats`)).body;
    return proofs.some(({ what, state }: { what: string; state: string }) => what === 'spaces' && state === 'done');
  });
  return (await app.call('POST', `${account}/repeats/spaces/lots`, {})).body;
}

/** Others change or delete some files there, which nothing here knows. @returns subjects of letters that rely on one of them. */
function meddled({ tree }: FileSpaceServer, files: readonly FileOf[], random: Random): Set<string> {
  const subjects = new Set<string>();
  for (const { subject, name, octets } of files) {
    if (!random.chance(0.06)) continue;
    const path = memberPath('/files/kept/', name);
    if (random.chance(0.5)) tree.remove(path);
    else tree.put(path, Buffer.alloc(octets.length, 'x'), 'image/jpeg');
    subjects.add(subject);
  }
  return subjects;
}

/** The server of the file space fails now and then. @returns ends that. */
function troubled(space: FileSpaceServer, random: Random): () => void {
  const trouble = setInterval(() => strike(space, random), 120);
  return () => {
    clearInterval(trouble);
    space.faults = noSpaceFaults();
  };
}

function strike(space: FileSpaceServer, random: Random): void {
  const method = random.pick(['PROPFIND', 'GET']);
  if (random.chance(0.3)) space.faults.refuse = { method, status: random.pick([503, 429]), times: 1 };
  if (random.chance(0.3)) space.faults.dropAnswerTo = { method, times: 1 };
  if (random.chance(0.3)) space.faults.cutAfter = { octets: random.below(30_000), times: 1 };
  space.faults.latencyMs = random.below(40);
}

async function saved(app: App, account: string): Promise<void> {
  const { id } = (await app.call('POST', `${account}/bags`, { place: 'here', where: '' })).body;
  const path = `${account}/bags/${id}`;
  await until(async () => (await app.call('GET', path)).body.state === 'done');
  assert.deepEqual((await app.call('GET', path)).body.left, [], 'every file is saved');
}

function census(host: StandIn): Census {
  const found: Census = { originals: new Map(), replacements: new Map() };
  for (const [name, { messages }] of host.mailbox.folders)
    for (const { item } of messages) {
      const text = item.write().toString('latin1');
      const subject = /^Subject: (.*)\r$/m.exec(text)?.[1] ?? '';
      const into = text.includes(NOTE) ? found.replacements : found.originals;
      into.set(subject, [...(into.get(subject) ?? []), name]);
    }
  return found;
}

const outside = (folders: readonly string[] = []) => folders.filter((name) => name !== 'Trash');

interface Scene {
  host: StandIn;
  random: Random;
  strikes: Strikes;
  letters: readonly string[];
  around: Partial<Faults>;
  report: TrialReport;
  /** Ends faults that are not of the mail host. */
  calm?: (() => void) | undefined;
}

async function carriedOut(app: App, account: string, body: object, scene: Scene) {
  const { id } = (await app.call('POST', `${account}/runs`, body)).body;
  return carried(app, account, id, scene);
}

/** Strikes while a run goes on, then lets it and what follows from it come to their end. */
async function carried(
  app: App,
  account: string,
  id: number,
  { host, random, strikes, letters, around, report, calm }: Scene,
) {
  const path = `${account}/runs/${id}`;
  report.runs++;
  const watch = setInterval(() => thereAtLeastOnce(host, letters, report), 40);
  try {
    for (let acts = random.between(1, 7); acts > 0; acts--) {
      await sleep(random.between(0, 400));
      await strikes.one(path);
      report.acts++;
    }
    strikes.calm();
    calm?.();
    host.faults = { ...noFaults(), ...around, latencyMs: 0 };
    await ended(app, path, report);
    // What takes needless replacements away is a run of its own.
    for (const { id: next, state } of (await app.call('GET', `${account}/runs`)).body.runs)
      if (next > id && state !== 'done') await ended(app, `${account}/runs/${next}`, report);
  } finally {
    clearInterval(watch);
  }
  thereAtLeastOnce(host, letters, report);
  assert.deepEqual(
    report.story.filter((line) => line.startsWith('missing')),
    [],
  );
  const run = (await app.call('GET', path)).body;
  report.messages += run.asked.messages;
  return run;
}

/** Told in the story, since a clock's turn can't fail a test. */
function thereAtLeastOnce(host: StandIn, letters: readonly string[], report: TrialReport): void {
  const { originals, replacements } = census(host);
  for (const subject of letters)
    if (!originals.has(subject) && !replacements.has(subject)) report.story.push(`missing ${subject}`);
}

/** Every letter is in the trash and stands without its files where it was, or it is as it was. */
function settled(host: StandIn, letters: readonly string[], run: any, around: Partial<Faults>): void {
  const { originals, replacements } = census(host);
  let done = 0;
  for (const subject of letters) {
    const [whole, without] = [originals.get(subject) ?? [], replacements.get(subject) ?? []];
    assert.equal(whole.length, 1, `the original of ${subject} is there once: ${whole}`);
    if (whole[0] === 'Trash') {
      done++;
      assert.equal(outside(without).length, 1, `${subject} stands once without its files: ${without}`);
    } else if (!around.noDelete?.includes(whole[0] as string))
      assert.deepEqual(outside(without), [], `${subject} is not there twice`);
  }
  assert.equal(run.done.messages, done, `what is said to be done was done: ${JSON.stringify(run)}`);
  const left = run.left.reduce((sum: number, { messages }: { messages: number }) => sum + messages, 0);
  assert.equal(done + left, letters.length, `every letter is done or left: ${JSON.stringify(run)}`);
}
