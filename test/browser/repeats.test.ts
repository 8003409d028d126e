import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { By, until as located, type WebDriver } from 'selenium-webdriver';
import { App, cleanUp, demoScenario, PASSWORD, startStandIn, USER, until } from '../harness';
import { accessible, ask, enterDemo, goTo, openPage, press, shows } from './page';

let driver: WebDriver;

before(async () => {
  const host = await startStandIn({ scenario: demoScenario() });
  const demo = { host: '127.0.0.1', port: host.plainPort, security: 'none', user: USER, password: PASSWORD };
  const app = await App.start({ env: { TAMSEL_DEMO: JSON.stringify(demo) } });
  driver = await openPage(app);
  await enterDemo();
});
after(cleanUp);

/** Presses the button or link that says this among other things. */
async function pressPart(words: string): Promise<void> {
  await driver
    .wait(located.elementLocated(By.xpath(`//main//*[self::button or self::a][contains(., "${words}")]`)), 20_000)
    .click();
}

test('messages are compared, told apart by rules that the person sees, and their copies and an imported folder are marked', async () => {
  await goTo('/repeats');
  await shows(/may exist more than once[\s\S]*has to read/);
  await accessible('Repeats before anything was compared');
  const before = await ask('/repeats');
  assert.equal(before.twins.groups, 0);
  await press('Compare them');
  await until(async () => (await ask('/repeats')).proof?.state === 'done');
  await shows(/messages exist more than once[\s\S]*stays[\s\S]*goes[\s\S]*same octets/);
  const { twins, folders } = await ask('/repeats');
  assert.equal(twins.groups, before.candidates.groups - (await ask('/repeats')).candidates.different);
  await accessible('Repeats');
  // What decides is an order that can be changed.
  await press('What decides which one stays');
  await driver.findElement(By.css('[aria-label="Earlier: It came first"]')).click();
  await press('Save the order');
  await until(async () => (await ask('/settings')).keepRules[3] === 'earliest');
  // One group stays as it is; the folder is one decision, the rest another.
  const [first] = (await ask('/repeats/twins?limit=1')).groups;
  await (await driver.findElement(By.css('input[type=checkbox]'))).click();
  await pressPart('A folder that repeats another');
  await shows(/From the old computer: \d+ of its \d+ messages lie in other folders too/);
  await pressPart('to the plan ·');
  await until(async () => (await ask('/lots')).lots.length === 1);
  const [lot] = (await ask('/lots')).lots;
  assert.deepEqual([lot.messages, lot.bytes], [folders[0].going.messages, folders[0].going.bytes]);
  await shows(/None of its copies can go/);
  // The rest is proposed beside the decisions; one group was to stay as it is, so it is taken here.
  await goTo('/suggestions');
  await shows(/\d+ copies, [\s\S]*can go: each is proven, and one of each stays/);
  await accessible('suggestions with copies');
  await pressPart('Look at them');
  await shows(/messages exist more than once/);
  await pressPart('copies to the plan');
  await until(async () => (await ask('/lots')).lots.length === 2);
  const { total } = await ask('/lots');
  assert.equal(total.messages, twins.going.messages);
  assert.ok(first.going.messages > 0);
  const run = await ask('/repeats');
  assert.deepEqual([run.twins.going.messages, run.broken], [0, 0]);
});
