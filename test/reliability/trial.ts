import assert from 'node:assert/strict';
import { setTimeout as sleep } from 'node:timers/promises';
import { Vault } from '../../src/store/access/vault';
import { verifyLedger } from '../../src/store/runs/ledger-verification';
import type { Faults } from '../../stand-in/faults';
import { noFaults } from '../../stand-in/faults';
import { Random, seedOf } from '../../stand-in/message/random';
import type { Scenario } from '../../stand-in/scenario/mailbox';
import { type App, demoScenario, hosted, indexed, PASSWORD, USER, until } from '../harness';
import { freshHost } from './fresh-host';
import { type Actor, type Instance, Mirror } from './mirror';
import { Others } from './others';
import { Strikes } from './strikes';

/** Extensions that a trial's server may lack, each on its own. */
const HIDEABLE = ['MOVE', 'UIDPLUS', 'OBJECTID', 'ESEARCH', 'QRESYNC', 'LIST-STATUS'];
const FOLDERS = ['INBOX', 'Sent', 'Trash', 'Offers', 'Bees', 'Archive', 'Archive/2019', 'Parish'];
/** Where runs take from, and others act; the trash among them. */
const BUSY = ['INBOX', 'Offers', 'Bees', 'Archive', 'Archive/2019', 'Parish', 'Trash'];

export interface TrialOptions {
  seed: number;
  /** Kills, cuts and refusals; without them only other clients are at work. */
  strikes: boolean;
}

export interface TrialReport {
  runs: number;
  messages: number;
  strikes: Record<string, number>;
  left: Record<string, number>;
  /** How often something happened, and how often the run was over by then. */
  acts: number;
  late: number;
  story: string[];
}

/** A mailbox of a few hundred small messages, some of them alike to the octet. */
function mailboxOf(random: Random): Scenario {
  const small = demoScenario().messages.filter(({ item }) => item.size < 60_000);
  const count = random.between(120, 320);
  const messages = Array.from({ length: count }, () => {
    const message = random.pick(small);
    return {
      ...message,
      folder: random.pick(FOLDERS),
      flagged: random.chance(0.02),
      draft: false,
      received: 1_600_000_000 + random.below(100_000_000),
    };
  });
  for (let twins = random.below(12); twins > 0; twins--) messages.push({ ...random.pick(messages) });
  const uses: Record<string, '\\Sent' | '\\Trash' | '\\Archive'> = {
    Sent: '\\Sent',
    Trash: '\\Trash',
    Archive: '\\Archive',
  };
  return {
    folders: FOLDERS.map((name) => ({ name, ...(uses[name] ? { use: uses[name] } : {}) })),
    messages,
    limit: 10 ** 9,
    notMail: 10 ** 6,
  };
}

/** Conditions that differ from trial to trial but stay the same during it. */
function surroundings(random: Random): Partial<Faults> {
  const hide = random.chance(0.3) ? [] : HIDEABLE.filter(() => random.chance(0.4));
  if (random.chance(0.15)) hide.push('CONDSTORE', 'QRESYNC');
  return {
    hide,
    latencyMs: random.between(5, 90),
    // A FETCH of one message needs 240 octets.
    longestCommand: random.chance(0.3) ? random.between(250, 600) : 0,
    trashesByItself: random.chance(0.12),
    noDelete: random.chance(0.06) ? [random.pick(['Bees', 'Parish'])] : [],
    readOnly: random.chance(0.06) ? [random.pick(['Offers', 'Archive'])] : [],
  };
}

const WHERES = [
  '',
  'folder = Offers or folder = Bees',
  'size > 8 kB',
  'under = Archive or folder = INBOX',
  'received < 2022-01-01',
  'folder = Parish and unseen or folder = Offers',
];

/** What is checked of a run afterwards. */
interface Asked {
  id: number;
  action: 'trash' | 'purge' | 'restore';
  /** The physical messages behind its members, by placement id. */
  members: Map<number, Instance>;
  /** Length of each member's history when the run was asked for. */
  since: Map<Instance, number>;
  /** Those that others had taken away by then, which the index did not know. */
  stale: Set<Instance>;
}

/** One mailbox, some runs on it with faults at random points, and everything checked against the model. */
export async function trial(app: App, { seed, strikes: withStrikes }: TrialOptions): Promise<TrialReport> {
  const random = new Random(seedOf(seed, 1));
  const host = await freshHost({ scenario: mailboxOf(random), user: USER, password: PASSWORD });
  const report: TrialReport = { runs: 0, messages: 0, strikes: {}, left: {}, acts: 0, late: 0, story: [] };
  try {
    const around = surroundings(random);
    host.faults = { ...noFaults(), ...around };
    report.story.push(JSON.stringify(around));
    const account = await app.signIn({ port: host.plainPort });
    assert.equal((await app.scanned(account)).state, 'done');
    const mirror = new Mirror(host.mailbox);
    const others = new Others(host, mirror, random, BUSY, report.story);
    const strikes = new Strikes(app, host, random, report);
    const asked: Asked[] = [];
    for (let runs = random.between(1, 3); runs > 0; runs--) {
      const run = await ask(app, account, random, mirror, asked, report);
      if (!run) continue;
      asked.push(run);
      const path = `${account}/runs/${run.id}`;
      for (let acts = random.below(7); acts > 0; acts--) {
        await sleep(random.between(0, 300));
        if (withStrikes && random.chance(0.5)) await strikes.one(path);
        else others.act();
        report.late += (await app.call('GET', path).catch(() => undefined))?.body?.state === 'done' ? 1 : 0;
        report.acts++;
      }
      strikes.calm();
      host.faults = { ...noFaults(), ...around, latencyMs: 0 };
      await ended(app, path, report);
      await check(app, account, run, mirror, around, report);
    }
    host.faults = { ...noFaults(), hide: around.hide ?? [] };
    await app.scanned(account, true);
    assert.deepEqual(await indexed(app, account), hosted(host), 'the index equals the host');
    outside(mirror, asked);
    const verdict = await verifyLedger(app.database, Vault.open(app.keyFile), Number(account.split('/').at(-1)));
    assert.deepEqual(verdict.faults, []);
    await app.call('DELETE', account);
    return report;
  } catch (error) {
    (error as Error).message = `seed ${seed}: ${(error as Error).message}\n${report.story.join('\n')}`;
    throw error;
  } finally {
    await host.stop();
  }
}

async function ask(
  app: App,
  account: string,
  random: Random,
  mirror: Mirror,
  before: readonly Asked[],
  report: TrialReport,
): Promise<Asked | undefined> {
  const action =
    before.length === 0
      ? random.pick(['trash', 'trash', 'purge'] as const)
      : random.pick(['trash', 'purge', 'restore', 'restore'] as const);
  const last = before.at(-1)?.id;
  const which =
    action === 'trash' || last === undefined || random.chance(0.4)
      ? { where: action === 'trash' ? random.pick(WHERES) : '' }
      : { run: last };
  const body = { action, ...which, ...(action === 'restore' ? { to: 'Parish' } : {}) };
  // Others act all the while: what they do from here on, the run may have met.
  const known = new Map(mirror.instances.map((instance) => [instance, instance.history.length]));
  // A purge from where it lies is a lot marked for it.
  let answer = await app.call('POST', `${account}/runs`, body);
  if (action === 'trash' && random.chance(0.25)) {
    const lot = await app.call('POST', `${account}/lots`, { where: random.pick(WHERES), fate: 'purge' });
    if (lot.status === 201 && answer.status !== 202)
      answer = await app.call('POST', `${account}/runs`, { action: 'purge', lots: [lot.body.id] });
  }
  if (answer.status !== 202) {
    assert.equal(answer.body.type, '/problems/nothing-to-do', JSON.stringify(answer.body));
    return undefined;
  }
  const { id } = answer.body;
  report.story.push(`run ${id}: ${JSON.stringify(body)}, ${answer.body.asked.messages} messages`);
  report.runs++;
  report.messages += answer.body.asked.messages;
  const { rows } = await app.database.query<{ id: number; path: string; validity: number; uid: number }>(
    `select p.id, f.path, g.uid_validity as validity, p.uid from run r, unnest(r.members) span
     join placement p on p.id >= lower(span) and p.id < upper(span) join folder f on f.account = p.account and f.id = p.folder
     join generation g on g.account = p.account and g.id = p.generation
     where r.account = $1 and r.id = $2 and p.account = $1`,
    [account.split('/').at(-1), id],
  );
  const members = new Map<number, Instance>();
  const stale = new Set<Instance>();
  for (const row of rows) {
    const instance = mirror.at(row.path, row.validity, row.uid);
    assert.ok(instance, `nothing ever was at ${JSON.stringify(row)}`);
    members.set(row.id, instance);
    if (instance.gone || instance.folder !== row.path) stale.add(instance);
  }
  const since = new Map([...members.values()].map((instance) => [instance, known.get(instance) ?? 0]));
  return { id, action: answer.body.action, members, since, stale };
}

/** Waits for the end; what failed is taken up again, as a person would. */
export async function ended(app: App, path: string, report: TrialReport): Promise<void> {
  for (let tries = 0; tries < 4; tries++) {
    let state = '';
    await until(async () => {
      const answer = await app.call('GET', path).catch(() => undefined);
      state = answer?.body?.state ?? '';
      return ['done', 'failed', 'cancelled', 'paused'].includes(state);
    });
    if (state === 'done' || state === 'cancelled') return;
    report.story.push(`${state}: ${JSON.stringify((await app.call('GET', path)).body.problem)}`);
    assert.equal((await app.call('POST', `${path}/resume`)).status, 202);
  }
  assert.fail('the run did not end');
}

/** The run's account of itself against what happened to each physical message. */
async function check(
  app: App,
  account: string,
  asked: Asked,
  mirror: Mirror,
  around: Partial<Faults>,
  report: TrialReport,
): Promise<void> {
  const run = (await app.call('GET', `${account}/runs/${asked.id}`)).body;
  const listed: { id: number; outcome: string; size: number }[] = (
    await app.call('GET', `${account}/runs/${asked.id}/messages`)
  ).body;
  assert.equal(listed.length, run.asked.messages, 'every member is listed');
  const sum = (amounts: { messages: number; bytes: number }[]) =>
    amounts.reduce((all, { messages, bytes }) => ({ messages: all.messages + messages, bytes: all.bytes + bytes }), {
      messages: 0,
      bytes: 0,
    });
  assert.deepEqual(sum([run.done, ...run.left]), run.asked, 'done and left are what was asked');
  const done = listed.filter(({ outcome }) => outcome === 'done');
  assert.deepEqual({ messages: done.length, bytes: done.reduce((all, { size }) => all + size, 0) }, run.done);
  // By content, since of messages that are alike to the octet any may stand for another.
  const said = new Map<unknown, number>();
  const truth = new Map<unknown, number>();
  const add = (map: Map<unknown, number>, key: unknown) => map.set(key, (map.get(key) ?? 0) + 1);
  for (const { id, outcome } of listed) {
    const instance = asked.members.get(id);
    report.left[outcome] = (report.left[outcome] ?? 0) + 1;
    assert.ok(instance);
    const acts = instance.history.slice(asked.since.get(instance));
    const ours = acts.filter(({ actor }) => actor === 'ours');
    if (outcome === 'done') add(said, instance.content);
    if (ours.some(({ act, to }) => act === 'remove' || to !== undefined)) add(truth, instance.content);
    if (outcome !== 'done') reasonable(outcome, instance, asked, around, mirror);
  }
  // Two more ways to be there that no act on the original shows: a copy that others made where this run brings things, which
  // without COPYUID nobody could tell apart, and one of ours whose original others removed before we could.
  const born = (by: Actor, content: unknown) =>
    mirror.instances.filter((instance) => instance.bornBy === by && instance.content === content).length;
  for (const [content, count] of said) {
    const did = truth.get(content) ?? 0;
    const most = did + born('others', content) + Math.max(0, born('ours', content) - did);
    assert.ok(did <= count && count <= most, `what is said to be done was done: ${count}, ${did}`);
  }
  for (const [content, count] of truth) assert.equal(said.get(content) ?? 0, count, 'what was done is said to be');
  // Every message that was moved is at its destination, unless others took it on from there.
  if (asked.action === 'trash') {
    const arrived = new Map<unknown, number>();
    for (const instance of mirror.instances) {
      const acts = instance.history.filter(({ actor }) => actor === 'ours');
      const moved =
        asked.members.size > 0 &&
        [...asked.members.values()].includes(instance) &&
        acts.some(({ to }) => to === 'Trash');
      const copied = instance.bornBy === 'ours' && !(instance.gone && instance.history.at(-1)?.actor === 'ours');
      if (moved || copied) add(arrived, instance.content);
    }
    for (const [content, count] of said)
      assert.ok((arrived.get(content) ?? 0) >= count, 'what went to the trash arrived there');
  }
}

/** Whether a reason for being left is one that happened. */
function reasonable(
  outcome: string,
  instance: Instance,
  { since, stale }: Asked,
  around: Partial<Faults>,
  mirror: Mirror,
): void {
  const acts = instance.history.slice(since.get(instance));
  const twin = mirror.instances.some((other) => other !== instance && other.content === instance.content);
  const byOthers = stale.has(instance) || acts.some(({ actor }) => actor === 'others');
  switch (outcome) {
    case 'vanished':
    case 'moved':
    case 'folder-gone':
      assert.ok(byOthers || twin, `${outcome}, but nobody touched it`);
      return;
    case 'guarded':
      return;
    case 'changed':
      assert.ok(twin || byOthers || !isRecognisable(instance, around), `${outcome} although it was there`);
      return;
    case 'unknown':
      assert.ok(twin || byOthers, `${outcome} although it was there`);
      return;
    case 'refused':
    case 'read-only':
      assert.ok(
        (around.noDelete?.length ?? 0) + (around.readOnly?.length ?? 0) > 0 || byOthers,
        `${outcome} by a server that refuses nothing`,
      );
      return;
    default:
      assert.fail(`left as ${outcome}`);
  }
}

/** Whether anything tells a message from others once its UID means nothing: an EMAILID or a Message-ID. */
function isRecognisable({ content }: Instance, around: Partial<Faults>): boolean {
  return !around.hide?.includes('OBJECTID') || /^message-id:/im.test(content.entity().head);
}

/** Nothing outside the frozen sets was removed, moved or left with a changed flag. */
function outside(mirror: Mirror, asked: readonly Asked[]): void {
  const members = new Set(asked.flatMap((run) => [...run.members.values()]));
  const contents = new Set([...members].map(({ content }) => content));
  for (const instance of mirror.instances) {
    const ours = instance.history.filter(({ actor }) => actor === 'ours');
    if (!members.has(instance) && instance.bornBy !== 'ours' && !contents.has(instance.content))
      assert.deepEqual(ours, [], 'what was not asked for stays');
    if (!instance.gone && !members.has(instance) && instance.bornBy === undefined)
      assert.deepEqual([...instance.flags].sort(), [...instance.othersFlags].sort(), 'flags are as others left them');
    if (!instance.gone && members.has(instance)) {
      const without = (flags: Set<string>) => [...flags].filter((flag) => flag !== 'deleted').sort();
      assert.deepEqual(without(instance.flags), without(instance.othersFlags), 'flags stand');
      if (ours.length === 0 && instance.flags.has('deleted'))
        assert.ok(instance.othersFlags.has('deleted'), 'no mark of ours is left');
    }
  }
}
