import assert from 'node:assert/strict';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import { certificates } from '../../stand-in/certificates';
import type { StandIn } from '../../stand-in/host';
import { LeavingServer } from '../../stand-in/leaving';
import { PassingTime } from '../../stand-in/passing-time';
import { type Scenario, scenario } from '../../stand-in/scenario/mailbox';
import { App, cleanUp, later, startStandIn, temporaryFolder, until } from '../harness';

after(cleanUp);

/** A month of the simulated time; twenty-four of them are two years. */
const MONTH = 30.4;
const MONTHS = 24;

let told: Scenario;
let leaving: LeavingServer;
let caFile: string;
let directory: string;

before(async () => {
  directory = temporaryFolder();
  const { authority, certificate, key } = await certificates(directory);
  caFile = join(directory, 'authority.pem');
  writeFileSync(caFile, authority);
  leaving = await LeavingServer.start({ key, cert: certificate });
  later(() => leaving.stop());
  // The mailbox ends today: what time brings follows on it.
  told = scenario(new Date().toISOString().slice(0, 10), 'small', leaving.port);
});

/** The demo's mailbox, whose time can be moved on, and an application that goes by it. */
async function opened(): Promise<{ app: App; host: StandIn; time: PassingTime; account: string }> {
  const clock = join(temporaryFolder(), 'clock');
  const host = await startStandIn({ scenario: told });
  const app = await App.start({ env: { TAMSEL_CLOCK_FILE: clock, TAMSEL_CA_FILE: caFile } });
  const time = new PassingTime(told, host.mailbox, leaving, clock);
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  return { app, host, time, account };
}

async function scannedAnew(app: App, account: string): Promise<void> {
  const { body } = await app.call('POST', `${account}/scans`, {});
  await until(async () => (await app.call('GET', `${account}/scans/${body.id}`)).body.state === 'done');
}

test('left alone, the mailbox is full within the range that was told at the start', async () => {
  const { app, time, account } = await opened();
  const { dates, growth } = (await app.call('GET', `${account}/forecast`)).body;
  const full = dates.find(({ what }: { what: string }) => what === 'full');
  let fullAt: number | null = null;
  for (let days = 0; fullAt === null && days < 730; days += 5) fullAt = time.moveOn(5).fullAt;
  assert.ok(fullAt !== null, 'it fills up within two years');
  const at = new Date(fullAt * 1000).toISOString();
  // The first message that finds no room is a large one: a little room is left then.
  const slack = 15 * 86_400_000;
  assert.ok(
    Date.parse(at) > Date.parse(full.earliest) - slack && Date.parse(at) < Date.parse(full.latest) + slack,
    `full at ${at}; told were ${full.earliest} to ${full.latest}, by ${growth.months} months`,
  );
});

test('two years with standing lots and senders that were asked: each date once, the level as forecast, and who heard it is quiet', async () => {
  const { app, host, time, account } = await opened();
  // First room, as a person would make it.
  await app.ran(account, { action: 'purge', folder: 'Trash' });
  const rhythm = { unit: 'month', every: 1, day: 31, from: new Date().toISOString().slice(0, 10), at: '03:00' };
  const made = [];
  for (const terms of [
    { label: 'Mailings older than a year', where: 'category = mailings and age > 1y', purgeAfterDays: 10 },
    { label: 'Machines, newest 50 stay', where: 'category = automatic and newest > 50', purgeAfterDays: 10 },
  ]) {
    const { body } = await app.call('POST', `${account}/standing-lots`, { ...terms, rhythm });
    const { messages, bytes } = body.trial.now;
    const started = await app.call('POST', `${account}/standing-lots/${body.id}/start`, {
      expect: { messages, bytes },
    });
    assert.equal(started.status, 200, JSON.stringify(started.body));
    made.push(started.body);
  }
  // Those with the most that can be asked by one click.
  await app.call('POST', `${account}/bulk-senders/read`, {});
  const bulk = async () => (await app.call('GET', `${account}/bulk-senders`)).body;
  await until(async () => (await bulk()).unread === 0);
  const chosen = (await bulk()).senders.filter(({ way }: { way: string }) => way === 'one-click').slice(0, 12);
  const asking = await app.call('POST', `${account}/bulk-senders/ask`, {
    senders: chosen.map(({ sender }: { sender: string }) => sender),
    expect: chosen.length,
  });
  assert.equal(asking.status, 202, JSON.stringify(asking.body));
  await until(async () =>
    (await bulk()).senders.every(({ state }: { state?: string }) => state !== 'queued' && state !== 'sending'),
  );
  const forecast = (await app.call('GET', `${account}/forecast`)).body;
  const levels: number[] = [];
  for (let month = 0; month < MONTHS; month++) {
    const { fullAt } = time.moveOn(MONTH);
    assert.equal(fullAt, null, `no room in month ${month}`);
    await until(async () => {
      const { standingLots } = (await app.call('GET', `${account}/standing-lots`)).body;
      const now = Date.now() + (month + 1) * MONTH * 86_400_000;
      return standingLots.every(
        ({ nextAt, dates }: any) =>
          Date.parse(nextAt) > now &&
          dates.every(({ state }: { state: string }) => state === 'done' || state === 'nothing'),
      );
    });
    levels.push((await app.call('GET', `${account}/level`)).body.used);
  }
  const { standingLots } = (await app.call('GET', `${account}/standing-lots`)).body;
  for (const { id, state, failures } of standingLots) {
    assert.deepEqual([state, failures], ['on', 0]);
    const { rows } = await app.database.query(
      `select count(*)::int as dates, count(distinct run)::int as runs, count(run)::int as with_run, min(day)::text as first, max(day)::text as last
       from standing_date where standing = $1`,
      [id],
    );
    const [{ dates, runs, with_run, first, last }] = rows;
    const months =
      (Number(last.slice(0, 4)) - Number(first.slice(0, 4))) * 12 +
      Number(last.slice(5, 7)) -
      Number(first.slice(5, 7)) +
      1;
    assert.deepEqual([dates, runs], [months, with_run], 'a date for each month, a run for each date');
    assert.ok(dates >= MONTHS - 1, `${dates} dates`);
  }
  // What the forecast said with both of them, a year and two years ahead. Senders were asked besides, so it may be less.
  for (const ahead of [12, 23]) {
    const said = forecast.changed[ahead] as number;
    const spread = forecast.growth.bytes.spread * 1.4 * Math.sqrt(ahead + ahead ** 2 / forecast.growth.months);
    const less = chosen.reduce((sum: number, { bytes }: { bytes: number }) => sum + bytes, 0) * (ahead / 12);
    const is = levels[ahead] as number;
    assert.ok(
      is < said + spread && is > said - spread - less,
      `${is} after ${ahead} months; ${said} was said, give or take ${spread}`,
    );
  }
  await scannedAnew(app, account);
  // Scans on each date told how what is not mail grows: as much as there was comes in ten years.
  const { notMail } = (await app.call('GET', `${account}/forecast`)).body;
  const grows = (told.notMail / 10 / 365) * (365.2425 / 12);
  assert.ok(
    Math.abs(notMail.growth.mean / grows - 1) < 0.1 && notMail.growth.months >= 10,
    `${JSON.stringify(notMail)}, and ${grows} came`,
  );
  assert.ok(Math.abs(notMail.bytes / (told.notMail * 1.2) - 1) < 0.01, `${notMail.bytes} are not mail`);
  const after = (await bulk()).senders.filter(({ askedAt }: { askedAt?: string }) => askedAt);
  let quiet = 0;
  let loud = 0;
  for (const { sender, state, since } of after) {
    const heard = leaving.left.has(sender.split('@')[1]);
    assert.equal(heard, state === 'asked', `${sender} is ${state}`);
    if (heard) {
      assert.equal(since.messages, 0, `${sender} heard it`);
      quiet++;
    } else if (since.messages > 0) loud++;
  }
  assert.ok(quiet > 3 && loud > 0, `${quiet} are quiet, ${loud} went on`);
  assert.deepEqual((await app.call('GET', `${account}/ledger/check`)).body.faults, []);
  assert.equal((await app.call('GET', `${account}/lots`)).body.lots.length, 0, 'nothing asked');
  assert.ok(host.mailbox.messageCount() > 0);
});
