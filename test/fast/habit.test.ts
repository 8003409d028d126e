import assert from 'node:assert/strict';
import { rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import ICAL from 'ical.js';
import { stepHabit } from '../../src/jobs/habit';
import { saveSettings } from '../../src/store/access/accounts';
import { saveSecret } from '../../src/store/access/credentials';
import { saveReading } from '../../src/store/index/readings';
import { cleanUp, temporaryFolder } from '../harness';
import { message } from './bagged';
import { FakeServer } from './fake-server';
import { given } from './letters';
import { Mailbox } from './mailbox';

after(cleanUp);

let clockFile = '';
before(() => {
  clockFile = join(temporaryFolder(), 'clock');
  process.env.TAMSEL_CLOCK_FILE = clockFile;
});
const inDays = (days: number) => writeFileSync(clockFile, `${days * 86_400}`);

async function opened(): Promise<Mailbox> {
  rmSync(clockFile, { force: true });
  const fake = new FakeServer();
  const ago = (days: number) => new Date(Date.now() - days * 86_400_000);
  fake.add(
    'INBOX',
    'inbox',
    Array.from({ length: 30 }, (_, at) => given(message(`m${at}`, 'x\r\n'), { received: ago(at * 20) })),
  );
  fake.add('Trash', 'trash', []);
  const mailbox = await Mailbox.open(fake);
  await saveSecret(mailbox.database, mailbox.context.vault, mailbox.account.id, { password: 'kept' });
  return mailbox;
}

/** What mail waits to be sent: subjects, and bodies. */
async function notices({ database }: Mailbox): Promise<{ subject: string; body: string }[]> {
  return (await database.query('select subject, body from notice order by id')).rows;
}

const steps = async (mailbox: Mailbox) => {
  let count = 0;
  while (await stepHabit(mailbox.context)) assert.ok(++count < 20);
};

test('a mail comes once when the level passes the threshold, and again only after it has fallen', async () => {
  const mailbox = await opened();
  const { database, account } = mailbox;
  const read = async (used: number) => {
    await saveReading(database, account.id, { used, limit: 1_000, messages: null, messageLimit: null });
    await steps(mailbox);
  };
  await read(950);
  assert.deepEqual(await notices(mailbox), [], 'nobody asked for any');
  await saveSettings(database, account.id, { mailAbove: 0.9 });
  await read(960);
  assert.deepEqual(await notices(mailbox), [], 'without an address there is none');
  await saveSettings(database, account.id, { mailTo: 'tern@mail.example' });
  for (const used of [800, 899, 900, 910, 895, 905]) await read(used);
  assert.deepEqual(
    (await notices(mailbox)).map(({ subject }) => subject),
    ['Your mailbox is 90 % full'],
  );
  for (const used of [870, 950]) await read(used);
  assert.equal((await notices(mailbox)).length, 2);
  await saveReading(database, account.id, { used: null, limit: null, messages: null, messageLimit: null });
  await steps(mailbox);
  assert.equal((await notices(mailbox)).length, 2, 'a figure that is not told is no level');
});

test('once a month come three sentences, after a scan where one can sign in', async () => {
  const mailbox = await opened();
  const { database, account } = mailbox;
  await saveSettings(database, account.id, { mailTo: 'tern@mail.example', mailMonthly: true });
  await steps(mailbox);
  assert.deepEqual(await notices(mailbox), [], 'the first comes with the next month');
  for (const days of [32, 63]) {
    inDays(days);
    const before = (await notices(mailbox)).length;
    await steps(mailbox);
    assert.equal((await notices(mailbox)).length, before, 'the scan is waited for');
    await mailbox.work();
    await steps(mailbox);
    assert.equal((await notices(mailbox)).length, before + 1);
  }
  const [note] = await notices(mailbox);
  assert.equal(note?.body.trim().split('\n').length, 3);
  assert.match(note?.body ?? '', /^Your mailbox holds .*\n.*\nNothing went by itself in the last month\.\n$/);
});

test('the feed of dates is read by a library of others (RFC 5545), and its address alone opens it', async () => {
  const mailbox = await opened();
  const label =
    'Mailings, “old”; and more, \\ with a name that is much longer than the seventy-five octets of a line – ü';
  const from = new Date().toISOString().slice(0, 10);
  const made = await mailbox.call('makeStandingLot', {
    label,
    where: 'age > 365d',
    rhythm: { unit: 'month', every: 1, day: 31, from, at: '02:30' },
  });
  const { messages, bytes } = made.trial.now;
  await mailbox.call('startStandingLot', { expect: { messages, bytes } }, { standing: `${made.id}` });
  const { path } = await mailbox.call('makeCalendar');
  const secret = path.split('/').at(-1);
  const read = async () => (await mailbox.response('readCalendar', { secret })).text();
  const text = await read();
  assert.ok(
    text.split('\r\n').every((line) => Buffer.byteLength(line) <= 75),
    'lines are folded (§3.1)',
  );
  const events = new ICAL.Component(ICAL.parse(text))
    .getAllSubcomponents('vevent')
    .map((event) => new ICAL.Event(event));
  assert.ok(events.length >= 12 && events.length <= 13, `${events.length} months`);
  const [lot] = (await mailbox.call('listStandingLots')).standingLots;
  assert.equal(events[0]?.summary, label);
  assert.equal(events[0]?.startDate.toJSDate().toISOString(), lot.nextAt);
  assert.equal(new Set(events.map(({ uid }) => uid)).size, events.length);
  await assert.rejects(mailbox.response('readCalendar', { secret: `${secret}x` }));
  await mailbox.call('makeCalendar');
  await assert.rejects(read(), 'the old address ended');
  await mailbox.call('deleteCalendar');
  assert.equal((await mailbox.call('getCalendar')).madeAt, null);
});
