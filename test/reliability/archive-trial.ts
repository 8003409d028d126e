import assert from 'node:assert/strict';
import { spawnSync } from 'node:child_process';
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { Vault } from '../../src/store/access/vault';
import { verifyLedger } from '../../src/store/runs/ledger-verification';
import { type Faults, noFaults } from '../../stand-in/faults';
import type { StandIn } from '../../stand-in/host';
import { Random, seedOf } from '../../stand-in/message/random';
import { letter, octetsOf } from '../fast/letters';
import { type App, hosted, indexed, PASSWORD, USER } from '../harness';
import { freshHost } from './fresh-host';
import { Strikes } from './strikes';
import { ended, type TrialReport } from './trial';

const FOLDERS = ['INBOX', 'Plots', 'Archive/2019'];
const EMPTY = { messages: [], limit: 10 ** 9, notMail: 10 ** 6 };

interface Scene {
  app: App;
  account: string;
  host: StandIn;
  random: Random;
  strikes: Strikes;
  subjects: readonly string[];
  around: Partial<Faults>;
  report: TrialReport;
}

/**
 * Letters are archived, purged, and put back, while everything fails at random points and the disk fills. At every moment each
 * letter is in the mailbox or in a bag under its final name; every such bag passes its manifests; at the end each is in the
 * mailbox once, or the runs say why not.
 */
export async function archiveTrial(app: App, seed: number): Promise<TrialReport> {
  const random = new Random(seedOf(seed, 3));
  const folders = [...FOLDERS.map((name) => ({ name })), { name: 'Trash', use: '\\Trash' as const }];
  const host = await freshHost({ scenario: { ...EMPTY, folders }, user: USER, password: PASSWORD });
  const report: TrialReport = { runs: 0, messages: 0, strikes: {}, left: {}, acts: 0, late: 0, story: [] };
  try {
    const subjects = fill(host, random);
    const around: Partial<Faults> = {
      hide: ['MOVE', 'UIDPLUS', 'OBJECTID', 'QRESYNC'].filter(() => random.chance(0.3)),
      latencyMs: random.between(5, 60),
    };
    report.story.push(JSON.stringify(around));
    host.faults = { ...noFaults(), hide: around.hide ?? [] };
    // A session holds a limited number of mailboxes.
    app.forgetCookie();
    const account = await app.signIn({ port: host.plainPort });
    assert.equal((await app.scanned(account)).state, 'done');
    const strikes = new Strikes(app, host, random, report);
    const scene = { app, account, host, random, strikes, subjects, around, report };
    const before = census(host);
    const lot = (await app.call('POST', `${account}/lots`, { fate: 'archive', where: '' })).body;
    const archived = await carriedOut({ action: 'archive', lots: [lot.id] }, scene);
    allIsSaid(archived, subjects.length);
    assert.equal(inTrash(host), archived.done.messages, 'what is said to be in the trash is there');
    const purged = await carriedOut({ action: 'purge', where: '' }, scene);
    allIsSaid(purged, archived.done.messages);
    const back = await carriedOut({ action: 'put-back', where: '' }, scene);
    allIsSaid(back, back.asked.messages);
    assert.ok(
      back.left.every(({ reason }: { reason: string }) => reason === 'there'),
      `nothing else keeps a message from being put back: ${JSON.stringify(back.left)}`,
    );
    assert.deepEqual(outsideTrash(census(host)), outsideTrash(before), 'each is where it was, once');
    for (const bag of bagsOf(app, account)) passes(bag);
    host.faults = { ...noFaults(), hide: around.hide ?? [] };
    await app.scanned(account, true);
    assert.deepEqual(await indexed(app, account), hosted(host), 'the index equals the host');
    const verdict = await verifyLedger(app.database, Vault.open(app.keyFile), Number(account.split('/').at(-1)));
    assert.deepEqual(verdict.faults, []);
    return report;
  } catch (error) {
    (error as Error).message = `archive seed ${seed}: ${(error as Error).message}\n${report.story.join('\n')}`;
    throw error;
  } finally {
    await host.stop();
  }
}

/** Letters with and without files, some with lines that begin like those of an mbox file; gives their subjects. */
function fill(host: StandIn, random: Random): string[] {
  const subjects: string[] = [];
  for (let number = random.between(20, 80); number > 0; number--) {
    const subject = `letter ${number}`;
    const files = Array.from({ length: random.between(0, 2) }, (_, at) => ({
      name: `picture ${number}-${at}.jpg`,
      octets: octetsOf(random.between(2_000, 40_000), number * 10 + at),
    }));
    const text = random.chance(0.3) ? 'From here on\r\n>From there\r\n' : 'Here they are.\r\n';
    const flags = ['seen', 'answered'].filter(() => random.chance(0.3));
    const folder = host.mailbox.folders.get(random.pick(FOLDERS));
    const at = 1_600_000_000 + random.below(100_000_000);
    host.mailbox.append(folder as never, letter(subject, files, { text }), at, flags);
    subjects.push(subject);
  }
  return subjects;
}

/** By subject, the folders in which a letter is. */
function census(host: StandIn): Map<string, string[]> {
  const found = new Map<string, string[]>();
  for (const [name, { messages }] of host.mailbox.folders)
    for (const { item } of messages) {
      const subject = /^Subject: (.*)\r$/m.exec(item.write().toString('latin1'))?.[1] ?? '';
      found.set(subject, [...(found.get(subject) ?? []), name]);
    }
  return found;
}

function outsideTrash(found: ReadonlyMap<string, string[]>): [string, string[]][] {
  return [...found]
    .map(([subject, folders]): [string, string[]] => [subject, folders.filter((name) => name !== 'Trash')])
    .filter(([, folders]) => folders.length > 0)
    .sort(([a], [b]) => (a < b ? -1 : 1));
}

const inTrash = (host: StandIn) => host.mailbox.folder('Trash')?.messages.length ?? 0;

/** The bags of an account that have their final names. */
function bagsOf(app: App, account: string): string[] {
  const folder = join(app.archive, account.split('/').at(-1) as string);
  if (!existsSync(folder)) return [];
  return readdirSync(folder)
    .filter((name) => !name.endsWith('.part'))
    .map((name) => join(folder, name));
}

/** Fails unless a bag is what its manifests say, by a program that knows nothing of Tamsel. */
function passes(bag: string): void {
  for (const manifest of ['manifest-sha256.txt', 'tagmanifest-sha256.txt']) {
    const { status, stderr, stdout } = spawnSync('sha256sum', ['--strict', '--quiet', '-c', manifest], { cwd: bag });
    assert.equal(status, 0, `${bag}: ${stdout}${stderr}`);
  }
}

function subjectsOf(bag: string): string[] {
  const data = join(bag, 'data');
  const lines = readFileSync(join(data, 'index.jsonl'), 'utf8').trim().split('\n');
  return lines.filter(Boolean).map((line) => JSON.parse(line).subject);
}

/** Told in the story, since a clock's turn can't fail a test. */
function isSomewhere({ app, account, host, subjects, report }: Scene): void {
  const there = census(host);
  const missing = subjects.filter((subject) => !there.has(subject));
  if (missing.length === 0) return;
  const archived = new Set(bagsOf(app, account).flatMap(subjectsOf));
  for (const subject of missing) if (!archived.has(subject)) report.story.push(`missing ${subject}`);
}

async function carriedOut(body: object, scene: Scene) {
  const { app, account, host, random, strikes, around, report } = scene;
  host.faults = { ...noFaults(), ...around };
  const { id } = (await app.call('POST', `${account}/runs`, body)).body;
  const path = `${account}/runs/${id}`;
  report.runs++;
  const watch = setInterval(() => isSomewhere(scene), 60);
  try {
    for (let acts = random.between(1, 6); acts > 0; acts--) {
      await sleep(random.between(0, 400));
      if (random.chance(0.2)) await fillDisk(scene);
      else await strikes.one(path);
      report.acts++;
    }
    strikes.calm();
    host.faults = { ...noFaults(), ...around, latencyMs: 0 };
    await ended(app, path, report);
  } finally {
    clearInterval(watch);
  }
  isSomewhere(scene);
  assert.deepEqual(
    report.story.filter((line) => line.startsWith('missing')),
    [],
  );
  for (const bag of bagsOf(app, account)) passes(bag);
  const run = (await app.call('GET', path)).body;
  report.messages += run.asked.messages;
  return run;
}

/** For a while no file of the worker may grow beyond some octets, which it takes for a full disk (setrlimit(2), RLIMIT_FSIZE). */
async function fillDisk({ app, random, report }: Scene): Promise<void> {
  const pid = app.workerPid;
  if (pid === undefined) return;
  const octets = random.between(0, 200_000);
  report.strikes['full disk'] = (report.strikes['full disk'] ?? 0) + 1;
  report.story.push(`full disk ${octets}`);
  spawnSync('prlimit', ['--pid', `${pid}`, `--fsize=${octets}:unlimited`]);
  await sleep(random.between(100, 700));
  spawnSync('prlimit', ['--pid', `${pid}`, '--fsize=unlimited']);
}

/** Every message is done or left. */
function allIsSaid(run: any, asked: number): void {
  const left = run.left.reduce((sum: number, { messages }: { messages: number }) => sum + messages, 0);
  assert.deepEqual(
    [run.asked.messages, run.done.messages + left],
    [asked, asked],
    `every message is done or left: ${JSON.stringify(run)}`,
  );
}
