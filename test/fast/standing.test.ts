import assert from 'node:assert/strict';
import { rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import fc from 'fast-check';
import { instantOfAge } from '../../src/core/criteria/instants';
import { parseCriteria } from '../../src/core/criteria/parse';
import type { Criteria } from '../../src/core/criteria/tree';
import { pastMonths } from '../../src/core/forecast/months';
import { FLAG_BITS } from '../../src/core/mailbox/flags';
import { stepStanding } from '../../src/jobs/standing';
import { saveSecret } from '../../src/store/access/credentials';
import type { Database } from '../../src/store/database';
import { tryOnPast } from '../../src/store/plan/standing-trial';
import { cleanUp, temporaryFolder } from '../harness';
import { message } from './bagged';
import { deliver, type FakeMessage, FakeServer } from './fake-server';
import { given, letter, octetsOf } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

const DAY_MS = 86_400_000;
const NOW = new Date();
const ago = (days: number) => new Date(NOW.getTime() - days * DAY_MS);

/** Moves the clock on to so many days from now. */
let clockFile = '';
before(() => {
  clockFile = join(temporaryFolder(), 'clock');
  process.env.TAMSEL_CLOCK_FILE = clockFile;
});
const inDays = (days: number) => writeFileSync(clockFile, `${days * 86_400}`);
const today = () => rmSync(clockFile, { force: true });

/** A letter of every week of two years, and one of every month. */
function server(dialect = {}): FakeServer {
  const fake = new FakeServer(dialect);
  fake.add('INBOX', 'inbox', [
    ...Array.from({ length: 110 }, (_, week) =>
      given(message(`week ${week}`, 'x\r\n'), { received: ago(week * 7 + 3) }),
    ),
    given(message('pinned', 'x\r\n'), { received: ago(700), flags: FLAG_BITS.flagged }),
  ]);
  fake.add('Trash', 'trash', []);
  return fake;
}

async function opened(fake: FakeServer): Promise<Mailbox> {
  today();
  const mailbox = await Mailbox.open(fake);
  await saveSecret(mailbox.database, mailbox.context.vault, mailbox.account.id, { password: 'kept' });
  return mailbox;
}

const TOMORROW = new Date(NOW.getTime() + DAY_MS).toISOString().slice(0, 10);
const MONTHLY = { unit: 'day', every: 30, day: null, from: TOMORROW, at: '03:00' };

async function make(mailbox: Mailbox, more: object = {}) {
  const made = await mailbox.call('makeStandingLot', { label: 'old', where: 'age > 365d', rhythm: MONTHLY, ...more });
  return { made, parameters: { standing: `${made.id}` } };
}

async function started(mailbox: Mailbox, more: object = {}) {
  const { made, parameters } = await make(mailbox, more);
  const { messages, bytes } = made.trial.now;
  return { parameters, lot: await mailbox.call('startStandingLot', { expect: { messages, bytes } }, parameters) };
}

const theLot = async (mailbox: Mailbox) => (await mailbox.call('listStandingLots')).standingLots[0];
const runsOf = async (mailbox: Mailbox) => (await mailbox.call('listRuns')).runs.reverse();

/** Lets chores and jobs go on until nothing is left to do; the clock goes on by a minute each time. */
async function settle(mailbox: Mailbox, days: number): Promise<void> {
  for (let minute = 0, idle = 0; idle < 2; minute++) {
    assert.ok(minute < 200, 'it comes to an end');
    inDays(days + minute / 1_440);
    let did = false;
    while (await stepStanding(mailbox.context)) did = true;
    const waiting = await mailbox.database.query(
      `select 1 from job where done_at is null and kind in ('scan', 'run', 'save', 'search') limit 1`,
    );
    if (waiting.rowCount === 1) {
      await mailbox.work();
      did = true;
    }
    // Bags are read for their words by jobs that nothing here waits for.
    await mailbox.database.query(`update job set done_at = now() where done_at is null and kind = 'read-bag'`);
    idle = did ? 0 : idle + 1;
  }
}

test('what it would have taken in the past is what counting day by day gives, for random criteria and mail', async () => {
  const fake = new FakeServer();
  const people = ['a@x.example', 'b@x.example', ''];
  let seed = 7;
  const random = (below: number) => {
    seed = (Math.imul(seed, 1_103_525_245) + 12_345) >>> 0;
    return (seed >>> 8) % below;
  };
  const all = Array.from({ length: 300 }, (_, at) => {
    const address = people[random(3)] as string;
    return given(message(`m${at}`, 'x'.repeat(random(2_000))), {
      received: ago(random(900) + random(1_000) / 1_000),
      flags: random(8) === 0 ? FLAG_BITS.flagged : random(2) * FLAG_BITS.seen,
      from: address === '' ? null : { name: '', address },
    });
  });
  fake.add('INBOX', 'inbox', all);
  fake.add('Trash', 'trash', []);
  const mailbox = await opened(fake);
  const { rows } = await mailbox.database.query(
    `select p.id, p.received, p.size, p.flags, m.from_address as address from placement p join message m on m.id = p.message`,
  );
  type Row = { id: number; received: Date; size: number; flags: number; address: string };
  const guarded = (row: Row) => (row.flags & FLAG_BITS.flagged) !== 0;
  /** What matches of the messages that are there, said as plainly as can be. */
  const means =
    (criteria: Criteria, there: readonly Row[], at: Date) =>
    (row: Row): boolean => {
      if (criteria.kind === 'not') return !means(criteria.of, there, at)(row);
      if (criteria.kind === 'all') return criteria.of.every((part) => means(part, there, at)(row));
      if (criteria.kind === 'flag') return (row.flags & FLAG_BITS.seen) !== 0;
      if (criteria.kind !== 'test') return true;
      const { field, value } = criteria;
      if (value.type === 'age') return row.received < instantOfAge(value.number, value.unit, at, 'UTC');
      if (value.type === 'text') return row.address === value.text;
      if (value.type !== 'count') return false;
      const newer = there.filter(
        ({ id, address, received }) =>
          address === row.address &&
          address !== '' &&
          (field === 'newest' || received.toISOString().slice(0, 7) === row.received.toISOString().slice(0, 7)) &&
          (+received > +row.received || (+received === +row.received && id > row.id)),
      );
      return newer.length + 1 > value.number;
    };
  const part = fc.oneof(
    fc.integer({ min: 10, max: 500 }).map((days) => `age > ${days}d`),
    fc.integer({ min: 0, max: 40 }).map((most) => `newest > ${most}`),
    fc.integer({ min: 0, max: 4 }).map((most) => `monthly > ${most}`),
    fc.constantFrom('from = a@x.example', 'seen'),
  );
  const where = fc.array(fc.tuple(fc.boolean(), part), { minLength: 1, maxLength: 3 }).map((parts) =>
    // The complement of an age or a place is what the older and the more recent have changed places in.
    parts.map(([negated, text]) => (negated && /^(from|seen)/.test(text) ? `not ${text}` : text)).join(' and '),
  );
  let taking = 0;
  await fc.assert(
    fc.asyncProperty(where, async (text) => {
      const parsed = parseCriteria(text);
      assert.ok(parsed.ok, text);
      const trial = await tryOnPast(mailbox.database, mailbox.account, parsed.criteria, 'trash', NOW);
      const starts = pastMonths(NOW, 12, 'UTC');
      const gone = new Set<number>();
      const months = starts.map((end) => {
        const there = (rows as Row[]).filter(({ id, received }) => received < end && !gone.has(id));
        const taken = there.filter((row) => !guarded(row) && means(parsed.criteria, there, end)(row));
        for (const { id } of taken) gone.add(id);
        return { messages: taken.length, bytes: taken.reduce((sum, { size }) => sum + size, 0) };
      });
      assert.deepEqual(
        trial.months.map(({ messages, bytes }) => ({ messages, bytes })),
        months.slice(1),
        text,
      );
      const now = (rows as Row[]).filter((row) => !guarded(row) && means(parsed.criteria, rows, NOW)(row));
      assert.equal(trial.now.messages, now.length, text);
      if (trial.months.some(({ messages }) => messages > 0)) taking++;
    }),
    { numRuns: 30 },
  );
  assert.ok(taking > 10, `${taking} took something`);
});

test('it is tried before it goes; then it goes on its dates, takes what matches then, and nothing that is guarded', async () => {
  const mailbox = await opened(server());
  const { made, parameters } = await make(mailbox);
  assert.deepEqual(
    [made.state, made.trial.now.messages, made.trial.months.length, made.nextOn],
    ['draft', 58, 12, undefined],
  );
  for (const { messages } of made.trial.months) assert.ok(messages === 4 || messages === 5, `${messages} in a month`);
  await settle(mailbox, 3);
  assert.equal((await runsOf(mailbox)).length, 0, 'a draft does nothing');
  today();
  await assert.rejects(
    mailbox.call('startStandingLot', { expect: { messages: 1, bytes: 1 } }, parameters),
    /would take 58 messages/,
  );
  const { messages, bytes } = made.trial.now;
  const lot = await mailbox.call('startStandingLot', { expect: { messages, bytes } }, parameters);
  assert.deepEqual([lot.state, lot.nextOn, lot.nextAt.slice(11, 16)], ['on', TOMORROW, '03:00']);
  await settle(mailbox, 1.5);
  const [first] = await runsOf(mailbox);
  assert.deepEqual(
    [first.state, first.done.messages, first.askedBy.via, first.askedBy.day],
    ['done', 58, 'standing', TOMORROW],
  );
  assert.ok(mailbox.hosted.INBOX?.includes('pinned'));
  const after = await theLot(mailbox);
  assert.deepEqual([after.dates[0].state, after.dates[0].messages, after.nextOn > TOMORROW], ['done', 58, true]);
  assert.ok(after.ceiling >= 8 && after.ceiling <= 12, `${after.ceiling} at each later date`);
  await settle(mailbox, 31.5);
  const [, second] = await runsOf(mailbox);
  assert.ok(second.done.messages >= 4 && second.done.messages <= 5, `${second.done.messages} a month later`);
  // It was away for half a year: one date makes up for all of them.
  await settle(mailbox, 220);
  const third = await theLot(mailbox);
  assert.equal(third.dates.length, 3);
  assert.equal(third.dates[0].state, 'asking', 'what has gathered is more than a date was foreseen to take');
  assert.ok(Date.parse(third.nextAt) > NOW.getTime() + 220 * DAY_MS);
});

/** A database whose connection breaks after so many statements of transactions. */
function breaking(database: Database, after: number): Database & { spent: boolean } {
  let left = after;
  const broken = { spent: false };
  return Object.assign(
    Object.create(database, {
      connect: {
        value: async () => {
          const client = await database.connect();
          return new Proxy(client, {
            get(target, name) {
              if (name !== 'query') {
                const value = Reflect.get(target, name);
                return typeof value === 'function' ? value.bind(target) : value;
              }
              return (...args: unknown[]) => {
                if (args[0] !== 'rollback' && left-- <= 0) {
                  broken.spent = true;
                  throw new Error('the worker died');
                }
                return (target.query as (...all: unknown[]) => unknown)(...args);
              };
            },
          });
        },
      },
      spent: { get: () => broken.spent },
    }),
  );
}

test('a worker that dies after any statement of a step leaves one date, one lot and one run; two at a time do as one', async () => {
  const mailbox = await opened(server());
  await started(mailbox);
  inDays(1.5);
  for (let statement = 0; ; statement++) {
    const database = breaking(mailbox.database, statement);
    try {
      while (await stepStanding({ ...mailbox.context, database })) {
        // The next one.
      }
    } catch (error) {
      assert.match(`${error}`, /the worker died/);
    }
    const counts = await mailbox.database.query(
      `select (select count(*) from standing_date) as dates, (select count(*) from run) as runs, (select count(*) from lot) as lots`,
    );
    for (const number of Object.values(counts.rows[0])) assert.ok(Number(number) <= 1, JSON.stringify(counts.rows));
    const scans = await mailbox.database.query(`select 1 from job where done_at is null and kind = 'scan'`);
    if (scans.rowCount === 1) await mailbox.work();
    inDays(1.5 + statement / 1_440);
    if (Number(counts.rows[0].runs) === 1 && !database.spent) break;
    assert.ok(statement < 500);
  }
  await Promise.all([1, 2, 3].map(() => settleSteps(mailbox)));
  await mailbox.work();
  inDays(2.4);
  await Promise.all([1, 2, 3].map(() => settleSteps(mailbox)));
  const lot = await theLot(mailbox);
  assert.deepEqual([lot.dates.length, lot.dates[0].state, lot.dates[0].messages], [1, 'done', 58]);
  assert.equal((await runsOf(mailbox)).length, 1);
  assert.equal(mailbox.server.folder('Trash').messages.length, 58);
});

async function settleSteps(mailbox: Mailbox): Promise<void> {
  while (await stepStanding(mailbox.context)) {
    // The next one.
  }
}

test('more than was foreseen, or than its number, is asked: in the plan, to be carried out or dropped', async () => {
  const fake = server();
  const mailbox = await opened(fake);
  const { parameters } = await started(mailbox);
  await settle(mailbox, 1.5);
  // Half a year of old mail is brought in at once.
  for (let at = 0; at < 40; at++)
    deliver(fake.folder('INBOX'), given(message(`brought ${at}`, 'x\r\n'), { received: ago(500) }));
  await settle(mailbox, 31.5);
  const asking = await theLot(mailbox);
  assert.deepEqual([asking.dates[0].state, asking.dates[0].messages > 40], ['asking', true]);
  const { lots } = await mailbox.call('listLots');
  assert.deepEqual([lots.length, lots[0].id, lots[0].messages], [1, asking.dates[0].lot, asking.dates[0].messages]);
  assert.equal((await runsOf(mailbox)).length, 1, 'nothing more was moved');
  // The next date waits for the answer.
  await settle(mailbox, 62);
  assert.equal((await theLot(mailbox)).dates.length, 2);
  await mailbox.call('deleteLot', undefined, { lot: `${lots[0].id}` });
  await settle(mailbox, 63);
  const [again, declined] = (await theLot(mailbox)).dates;
  assert.deepEqual([declined.state, again.state], ['declined', 'asking']);
  const run = await mailbox.call('startRun', { action: 'trash', lots: [again.lot] });
  await settle(mailbox, 64);
  assert.deepEqual([(await theLot(mailbox)).dates[0].state, (await theLot(mailbox)).dates[0].run], ['done', run.id]);
  // A number of its own, though the trial foresaw more. The same rhythm is no other one.
  const kept = await mailbox.call('changeStandingLot', { most: 0, rhythm: MONTHLY }, parameters);
  assert.equal(kept.state, 'on');
  await settle(mailbox, 95);
  assert.equal((await theLot(mailbox)).dates[0].state, 'asking');
});

test('it waits while nobody can sign in or the server is away, stops itself after three failures, and does nothing once stopped', async () => {
  today();
  const fake = server();
  const mailbox = await Mailbox.open(fake);
  const { parameters } = await started(mailbox);
  inDays(1.5);
  await settleSteps(mailbox);
  assert.equal((await theLot(mailbox)).dates[0].problem.kind, 'sign-in-needed');
  await saveSecret(mailbox.database, mailbox.context.vault, mailbox.account.id, { password: 'kept' });
  inDays(1.51);
  await settleSteps(mailbox);
  await mailbox.database.query(`update scan set state = 'failed' where state = 'queued'`);
  await mailbox.database.query(`update job set done_at = now() where done_at is null`);
  inDays(1.52);
  await settleSteps(mailbox);
  const waiting = await theLot(mailbox);
  assert.deepEqual(
    [waiting.dates[0].state, waiting.dates[0].problem.kind, waiting.failures],
    ['scanning', 'scan-failed', 0],
  );
  await settle(mailbox, 1.6);
  assert.equal((await theLot(mailbox)).dates[0].state, 'done');
  // Where nobody knows which folder is the trash, it fails.
  const trash = fake.folderList.find(({ role }) => role === 'trash');
  if (trash) trash.role = null;
  for (const days of [32, 62, 92]) await settle(mailbox, days);
  const stopped = await theLot(mailbox);
  assert.deepEqual(
    [stopped.state, stopped.failures, stopped.dates.map(({ state }: { state: string }) => state)],
    ['stopped', 3, ['failed', 'failed', 'failed', 'done']],
  );
  assert.equal(stopped.dates[0].problem.kind, 'no-trash-folder');
  await settle(mailbox, 130);
  assert.equal((await theLot(mailbox)).dates.length, 4);
  await mailbox.call('deleteStandingLot', undefined, parameters);
  assert.equal((await mailbox.call('listStandingLots')).standingLots.length, 0);
  assert.equal((await runsOf(mailbox)).length, 1, 'the ledger keeps what it did');
});

test('only what it brought to the trash itself is purged, after the days that were set, and not what was taken back', async () => {
  const fake = server();
  fake.folder('Trash').messages.push();
  const mailbox = await opened(fake);
  await mailbox.run({ action: 'trash', where: 'subject = "week 5"' });
  await started(mailbox, { purgeAfterDays: 10 });
  await settle(mailbox, 1.5);
  const [, moved] = await runsOf(mailbox);
  const { messages } = await mailbox.call(
    'listMessages',
    {},
    {},
    { scope: 'trash', where: 'subject = "week 80"', limit: '10' },
  );
  await mailbox.run({ action: 'restore', ids: [messages[0].id] });
  await settle(mailbox, 9);
  assert.equal(fake.folder('Trash').messages.length, 58, 'not yet');
  await settle(mailbox, 12);
  const left = fake.folder('Trash').messages.map(({ subject }: FakeMessage) => subject);
  assert.deepEqual(left, ['week 5']);
  assert.ok(mailbox.hosted.INBOX?.includes('week 80'));
  const lot = await theLot(mailbox);
  const purge = (await runsOf(mailbox)).find(({ id }: { id: number }) => id === lot.dates[0].purge);
  assert.deepEqual(
    [purge.action, purge.done.messages, purge.askedBy.via, moved.done.messages],
    ['purge', 57, 'standing', 58],
  );
  assert.deepEqual((await mailbox.call('checkLedger')).faults, []);
});

test('it archives before the trash, and saves files before it takes them out', async () => {
  const fake = new FakeServer();
  const plan = { name: 'plan.pdf', octets: octetsOf(9_000, 3), type: 'application/pdf' };
  fake.add('INBOX', 'inbox', [
    given(letter('with a plan', [plan]), { received: ago(400) }),
    given(letter('plain', []), { received: ago(400) }),
  ]);
  fake.add('Trash', 'trash', []);
  const mailbox = await opened(fake);
  await started(mailbox, { fate: 'strip', where: 'kind = document and age > 365d' });
  await settle(mailbox, 1.5);
  const lot = await theLot(mailbox);
  assert.deepEqual([lot.trial.now.messages, lot.dates[0].state, lot.dates[0].messages], [1, 'done', 1]);
  assert.equal(mailbox.server.folder('INBOX').messages.length, 2, 'its letter stays');
  const bags = (await mailbox.call('listBags')).bags;
  assert.deepEqual([bags.length, bags[0].checked.files], [1, 1]);
  today();
  await mailbox.call('stopStandingLot', {}, { standing: `${lot.id}` });
  const { made, parameters } = await make(mailbox, { fate: 'archive', where: 'subject = plain' });
  const { messages, bytes } = made.trial.now;
  await mailbox.call('startStandingLot', { expect: { messages, bytes } }, parameters);
  await settle(mailbox, 1.6);
  const archived = (await mailbox.call('listStandingLots')).standingLots.find(
    ({ id }: { id: number }) => id === made.id,
  );
  assert.equal(archived.dates[0].state, 'done');
  assert.equal((await mailbox.call('listBags')).bags.length, 2);
});
