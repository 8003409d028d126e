import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { By, type WebDriver, type WebElement } from 'selenium-webdriver';
import { App, cleanUp, demoScenario, PASSWORD, startStandIn, USER, until, withoutPhotographs } from '../harness';
import { accessible, ask, enterDemo, goTo, openPage, press, pressPart, rests, shows } from './page';

let driver: WebDriver;

before(async () => {
  const host = await startStandIn({ scenario: withoutPhotographs(demoScenario()) });
  const demo = { host: '127.0.0.1', port: host.plainPort, security: 'none', user: USER, password: PASSWORD };
  const app = await App.start({ env: { TAMSEL_DEMO: JSON.stringify(demo) } });
  driver = await openPage(app);
  await enterDemo();
});
after(cleanUp);

/** Waits until a reading is done. */
async function isRead(what: string): Promise<void> {
  const isDone = async () =>
    (await ask('/repeats')).proofs.some(
      (proof: { what: string; state: string }) => proof.what === what && proof.state === 'done',
    );
  await until(isDone);
}

/** Presses the button or link that says this among other things. */
test('messages are compared, told apart by rules that the person sees, and their copies and an imported folder are marked', async () => {
  await goTo('/repeats');
  await shows(/may exist more than once[\s\S]*has to read/);
  await accessible('Repeats before anything was compared');
  const before = await ask('/repeats');
  assert.equal(before.twins.groups, 0);
  await press('Compare them');
  await isRead('messages');
  await shows(/messages exist more than once[\s\S]*stays[\s\S]*goes[\s\S]*same octets/);
  const { twins, folders } = await ask('/repeats');
  assert.equal(twins.groups, before.candidates.groups - (await ask('/repeats')).candidates.different);
  await accessible('Repeats');
  await rests();
  // What decides is an order that can be changed.
  await press('What decides which one stays');
  await driver.findElement(By.css('[aria-label="Earlier: It came first"]')).click();
  await press('Save the order');
  await until(async () => (await ask('/settings')).keepRules[3] === 'earliest');
  // One group stays as it is; the folder is one decision, the rest another.
  const [first] = (await ask('/repeats/twins?limit=1')).groups;
  await (await driver.findElement(By.css('input[type=checkbox]'))).click();
  await pressPart('A folder that repeats another');
  await shows(/From the old computer: \d+ of its \d+ messages lie in other folders too; 2 do not[\s\S]*Only here: 2/);
  await shows(/Conflicts: [\s\S]*Programs put here what they disagreed on/);
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

test('the catalogue mailed eleven times, one summer evening, and what a later message quotes are found, looked at and marked', async () => {
  const before = (await ask('/lots')).lots.length;
  await goTo('/repeats');
  await pressPart('The same file mailed again');
  await shows(/files, [^,]*, may lie in several messages/);
  await press('Compare them');
  await isRead('files');
  await shows(
    /files lie in several messages[\s\S]*autumn catalogue\.pdf[\s\S]*stays[\s\S]*the newest[\s\S]*goes[\s\S]*same octets/,
  );
  await accessible('files mailed again');
  const { groups } = await ask('/repeats/files?limit=50');
  const catalogue = groups.find(({ name }: { name: string }) => name === 'autumn catalogue.pdf');
  assert.deepEqual([catalogue.copies.length, catalogue.going.files], [11, 10]);
  await pressPart('copies to the plan');
  await until(async () => (await ask('/lots')).lots.length === before + 1);
  const files = (await ask('/lots')).lots.find(({ label }: { label: string }) => label === 'Files mailed again');
  assert.deepEqual([files.fate, files.unchecked], ['strip', 0]);
  await shows(/0 copies can be taken out/);
  // One summer evening: nothing is offered before it was opened, and only what could be seen goes.
  await pressPart('Pictures nearly alike');
  await press('Compare them');
  await isRead('pictures');
  const { series } = await ask('/repeats/pictures?limit=100');
  const { pictures: nine } = series.find(
    ({ pictures }: any) => pictures[0].subject === 'The summer evening at the pond',
  );
  assert.equal(nine.length, 9);
  const title = `9 pictures, ${nine[0].from.name}`;
  await shows(new RegExp(title));
  assert.equal((await driver.findElements(By.xpath('//main//button[contains(., "Take out")]'))).length, 0);
  const evening = `//section[contains(@aria-label, "${title}")]`;
  await (await driver.findElement(By.xpath(`${evening}//button[contains(., "Look at them")]`))).click();
  await shows(/Take out 8 pictures/);
  await shows(/proposed: the sharpest/);
  await accessible('pictures nearly alike');
  // One more is kept than was proposed.
  const stays = (await driver.executeScript(
    `return [...document.querySelectorAll('section[aria-label*=". 9 pictures"] label')]
       .filter((label) => label.textContent === 'stays').map((label) => label.querySelector('input')).find((input) => !input.checked)`,
  )) as WebElement;
  await stays.click();
  await shows(/Take out 7 pictures/);
  await pressPart('Take out 7');
  await until(async () => (await ask('/lots')).lots.length === before + 2);
  const pictures = (await ask('/lots')).lots.find(({ label }: { label: string }) => /nearly alike/.test(label));
  assert.deepEqual([pictures.files, pictures.unchecked], [7, 0]);
  // What a later message quotes in full is proposed by nobody, and found where it is looked for.
  await pressPart('Quoted in full by a later one');
  await press('Compare them');
  await isRead('threads');
  await shows(/messages stand whole in a later one[\s\S]*Guards protect [\d,]+ more[\s\S]*goes/);
  await accessible('messages quoted in full');
  const { going } = (await ask('/repeats')).echoes;
  await pressPart('messages to the plan');
  await until(async () => (await ask('/lots')).lots.length === before + 3);
  const echoes = (await ask('/lots')).lots.find(({ label }: { label: string }) => label === 'Messages quoted in full');
  assert.deepEqual([echoes.messages, echoes.bytes], [going.messages, going.bytes]);
  assert.equal((await ask('/repeats')).broken, 0);
});
