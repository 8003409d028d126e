import assert from 'node:assert/strict';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import { By, type WebDriver } from 'selenium-webdriver';
import { certificates } from '../../stand-in/certificates';
import { StandIn } from '../../stand-in/host';
import { LeavingServer } from '../../stand-in/leaving';
import { PassingTime } from '../../stand-in/passing-time';
import { scenario } from '../../stand-in/scenario/mailbox';
import { App, cleanUp, later, PASSWORD, temporaryFolder, USER, until } from '../harness';
import { accessible, answer, ask, enterDemo, find, goTo, openPage, press, shows, text } from './page';

let driver: WebDriver;
let time: PassingTime;
let host: StandIn;

before(async () => {
  const directory = temporaryFolder();
  const { certificate, key } = await certificates(directory);
  const leaving = await LeavingServer.start({ key, cert: certificate });
  later(() => leaving.stop());
  const told = scenario(new Date().toISOString().slice(0, 10), 'small', leaving.port);
  host = await StandIn.start({ scenario: told, user: USER, password: PASSWORD, directory });
  later(() => host.stop());
  const clock = join(directory, 'clock');
  time = new PassingTime(told, host.mailbox, leaving, clock);
  const demo = { host: '127.0.0.1', port: host.plainPort, security: 'none', user: USER, password: PASSWORD };
  const servers = join(directory, 'servers.json');
  writeFileSync(servers, '{}');
  const app = await App.start({
    authority: host.authority,
    env: { TAMSEL_DEMO: JSON.stringify(demo), TAMSEL_CLOCK_FILE: clock, TAMSEL_SERVERS_FILE: servers },
  });
  driver = await openPage(app);
  await enterDemo();
});
after(cleanUp);

async function fill(label: string, typed: string): Promise<void> {
  const field = await driver.findElement(
    By.xpath(
      `//*[@role="dialog"]//*[self::input or self::select][@aria-label="${label}" or ancestor::label[contains(., "${label}")]]`,
    ),
  );
  await field.clear();
  await field.sendKeys(typed);
}

test('a standing lot is said, tried on the past, started, goes by itself on its date, and moves the day on which it is full', async () => {
  await goTo('/upkeep');
  await shows(/Nothing goes by itself/);
  await press('A new one');
  await fill('Standing lot', 'Old mailings');
  await press('category = mailings and age > 1y');
  await fill('Purge what it brought', '5');
  await press('Try it on the past');
  await shows(/Now it would take [\d,]+ messages[\s\S]*What came to it in each month/, '[role=dialog]');
  await accessible('the trial of a standing lot');
  const [made] = (await ask('/standing-lots')).standingLots;
  assert.deepEqual([made.state, made.where, made.purgeAfterDays], ['draft', 'category = mailings and age > 1y', 5]);
  await press('Let it go by itself');
  await shows(/The next date is \d{4}-\d{2}-\d{2}/, '[role=dialog]');
  await press('Close');
  await shows(/What each would change[\s\S]*\+ Old mailings/);
  time.moveOn(32);
  await until(async () => {
    const [{ dates }] = (await ask('/standing-lots')).standingLots;
    return dates[0]?.state === 'done' && dates[0].messages > 0;
  });
  time.moveOn(6);
  await until(async () =>
    (await ask('/standing-lots')).standingLots[0].dates.some(({ purge }: { purge?: number }) => purge),
  );
  await goTo('/upkeep');
  await press('look');
  await shows(/What it did[\s\S]*done/, '[role=dialog]');
  await press('Close');
  await press('stop');
  await shows(/stopped/);
});

test('senders are marked and asked with one question; who heard it is told apart from who did not', async () => {
  await goTo('/upkeep');
  await shows(/Less to come: \d+ senders can be asked to stop/);
  const { senders } = await ask('/bulk-senders');
  const askable = senders.filter(({ way }: { way?: string }) => way === 'one-click').slice(0, 3);
  for (const { name } of askable) await (await find(`input[aria-label="Mark ${name}"]`)).click();
  await press('Ask the marked ones to stop');
  await shows(new RegExp(`By one click: ${askable.length}\\. By a mail from [^:]+: 0`), '[role=alertdialog]');
  await accessible('the question before senders are asked');
  await answer(askable.length);
  await until(async () => {
    const states = (await ask('/bulk-senders')).senders.flatMap(({ state }: { state?: string }) =>
      state ? [state] : [],
    );
    return (
      states.length === askable.length && states.every((state: string) => state !== 'queued' && state !== 'sending')
    );
  });
  await shows(/asked \d{4}-\d{2}-\d{2}/);
  await press('Create the address of a feed');
  await shows(/\/api\/calendars\/[\w-]{43}/);
  const [feed] = /http\S+\/api\/calendars\/[\w-]{43}/.exec(await text('main')) ?? [];
  const read = await fetch(feed ?? '');
  assert.deepEqual([read.status, read.headers.get('content-type')], [200, 'text/calendar; charset=utf-8']);
  assert.match(await read.text(), /^BEGIN:VCALENDAR\r\n[\s\S]*END:VCALENDAR\r\n$/);
  assert.equal((await fetch(`${feed?.slice(0, -1)}.`)).status, 404);
  await accessible('Upkeep');
});
