import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { cleanUp } from '../harness';
import { FakeServer } from './fake-server';
import { Mailbox } from './mailbox';

after(cleanUp);

/** An instant in the middle of a month before now. */
function inMonth(back: number): Date {
  const now = new Date();
  return new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() - back, 15, 12));
}

async function opened(fake: FakeServer): Promise<Mailbox> {
  const mailbox = await Mailbox.open(fake);
  await mailbox.database.query(`update account set settings = settings || '{"timeZone":"UTC"}'`);
  return mailbox;
}

async function mailTotal({ database }: Mailbox): Promise<number> {
  return Number((await database.query('select sum(size) as bytes from placement where gone_at is null')).rows[0].bytes);
}

function serverOf(months: number): FakeServer {
  const fake = new FakeServer();
  fake.add('INBOX', 'inbox', [
    // Its month was not over when the mailbox began, and this one is not over yet.
    { size: 99, subject: 'first', received: inMonth(months + 1) },
    { size: 77, subject: 'now', received: new Date() },
    ...Array.from({ length: months }, (_, at) => ({ size: 1_000, subject: `m${at}`, received: inMonth(at + 1) })),
  ]);
  fake.add('Archive/Old', 'archive', [{ size: 500, subject: 'moved', received: inMonth(2) }]);
  fake.add('Trash', 'trash', [{ size: 50_000, subject: 'thrown', received: inMonth(1) }]);
  fake.add('Everything', null, [{ size: 900, subject: 'm1', received: inMonth(2) }], { repeats: true });
  return fake;
}

test('what came in and stayed is told by whole months: the trash and repeated views are not in it, folders inside are', async () => {
  const mailbox = await opened(serverOf(5));
  const { complete, months, growth, categories, course, used } = await mailbox.call('getForecast');
  assert.equal(complete, true);
  assert.deepEqual(
    months.map(({ messages, bytes }: { messages: number; bytes: number }) => [messages, bytes]),
    [
      [1, 1_000],
      [1, 1_000],
      [1, 1_000],
      [2, 1_500],
      [1, 1_000],
    ],
  );
  assert.deepEqual([growth.months, growth.bytes.mean, growth.messages.mean], [5, 1_000, 1]);
  assert.equal(
    categories.reduce((sum: number, { bytes }: { bytes: number }) => sum + bytes, 0),
    1_100,
  );
  assert.deepEqual(course[0], { low: used, likely: used, high: used });
});

test('what is not mail grows by readings: the middle one of each month, and none before four months of them', async () => {
  const mailbox = await opened(serverOf(6));
  const { database, account } = mailbox;
  const mail = await mailTotal(mailbox);
  await database.query('delete from reading');
  const read = (back: number, used: number, mail: number | null) =>
    database.query('insert into reading (account, at, used, storage_limit, counted) values ($1, $2, $3, 900000, $4)', [
      account.id,
      inMonth(back),
      used,
      mail,
    ]);
  for (const back of [5, 4, 3]) await read(back, mail + 10_000 - back * 700, mail);
  const told = async () => (await mailbox.call('getForecast')).notMail;
  assert.equal((await told()).growth, null);
  const before = (await mailbox.call('getForecast')).growth.bytes.mean;
  await read(2, mail + 8_600, mail);
  // One that lagged behind a purge, and one whose scan never ended.
  await read(2, mail + 88_000, mail);
  await read(2, mail + 8_599, mail);
  await read(2, mail + 70_000, null);
  await read(0, mail + 9_300, mail);
  assert.deepEqual(await told(), {
    bytes: 9_300,
    growth: { mean: 700, spread: 0, months: 3 },
  });
  const after = await mailbox.call('getForecast');
  assert.equal(after.growth.bytes.mean, before + 700);
  const { low, high, likely } = after.course[1];
  assert.deepEqual([low <= likely, high >= likely, likely], [true, true, mail + 9_300 + before + 700]);
});

test('when it is full follows the limit, and what the host does before; nothing is told by less than three months', async () => {
  const mailbox = await opened(serverOf(6));
  const { account, database } = mailbox;
  const used = (await mailbox.call('getForecast')).used;
  await database.query(`update account set settings = settings || $1::jsonb`, [
    JSON.stringify({ limit: used + 12_000, thresholds: { sending: (used + 6_000) / (used + 12_000) } }),
  ]);
  const settings = (await database.query('select settings from account where id = $1', [account.id])).rows[0].settings;
  Object.assign(account.settings, settings);
  const { at, dates } = await mailbox.call('getForecast');
  const months = dates.map(({ what, likely }: { what: string; likely: string }) => [
    what,
    Math.round((Date.parse(likely) - Date.parse(at)) / (30.436875 * 86_400_000)),
  ]);
  assert.deepEqual(months, [
    ['sending', 6],
    ['full', 12],
  ]);
  const young = await opened(serverOf(2));
  const told = await young.call('getForecast');
  assert.deepEqual([told.months.length, told.growth, told.dates, told.course], [2, null, [], []]);
});
