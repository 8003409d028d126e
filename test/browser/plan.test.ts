import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { By, Key, type WebDriver } from 'selenium-webdriver';
import { numbersOf, parseSequenceSet } from '../../src/core/sets/ranges';
import type { StandIn } from '../../stand-in/host';
import { FILE_DECISIONS } from '../file-decisions';
import { cleanUp, until } from '../harness';
import { accessible, answer, ask, find, goTo, openDemo, press, shows, text } from './page';

let host: StandIn;
let driver: WebDriver;

before(async () => {
  ({ host, driver } = await openDemo());
  await goTo('/');
  await press('Open the demo mailbox');
  await shows(/96 %[\s\S]*must go/);
  await until(async () => (await ask('/scans/last')).state === 'done');
});
after(cleanUp);

/** Moves the plan to the trash and purges it; gives the share that is full then. */
async function carriedOut(): Promise<number> {
  const { total } = await ask('/lots');
  await goTo('/review');
  await press(`Move ${total.messages.toLocaleString('en-GB')} messages to the trash`);
  await until(async () => {
    const [run] = (await ask('/runs')).runs;
    return run?.action === 'trash' && run.state === 'done';
  });
  const { trash, trashGuarded } = await ask('/level');
  const purge = `Purge ${(trash.messages - trashGuarded.messages).toLocaleString('en-GB')} messages`;
  await goTo('/trash');
  await press(purge);
  await answer(trash.messages - trashGuarded.messages);
  await until(async () => {
    const [run] = (await ask('/runs')).runs;
    return run.action === 'purge' && run.state === 'done';
  });
  const { used, limit } = await ask('/level');
  return used / limit;
}

test('suggestions alone lead from 96 % to under the target in fewer than 15 decisions, without one guarded message', async () => {
  // This is about letters.
  await driver.executeAsyncScript(
    `const done = arguments[arguments.length - 1];
     Promise.all(arguments[0].map((key) => fetch('/api/accounts/1/suggestions/dismissed', { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ key }) }))).then(() => done());`,
    FILE_DECISIONS,
  );
  await goTo('/suggestions');
  await shows(/must go once the trash is purged[\s\S]*Space freed by number of decisions/);
  await accessible('suggestions');
  const refused = await (await find('[data-suggestions] li a')).getText();
  await (await find(`[aria-label="Dismiss: ${refused}"]`)).click();
  await shows(new RegExp(`${FILE_DECISIONS.length + 1} suggestions dismissed`));
  let decisions = 0;
  while (!/The plan reaches the target/.test(await text('main'))) {
    const first = await find('[aria-label^="Take: "]');
    const name = await first.getAttribute('aria-label');
    assert.notEqual(name, `Take: ${refused}`);
    await first.click();
    assert.ok(++decisions < 15);
    await until(async () => (await ask('/lots')).lots.length === decisions);
    // The list is computed anew: what was taken is in it no more.
    await until(async () => (await driver.findElements(By.css(`[aria-label="${name}"]`))).length === 0);
  }
  const guarded = new Set(numbersOf(parseSequenceSet((await ask('/matches?where=guarded')).ids) ?? []));
  const plan = parseSequenceSet((await ask('/plan')).trash) ?? [];
  for (const id of numbersOf(plan)) assert.ok(!guarded.has(id));
  const flagged = [...host.mailbox.folders.values()].flatMap(({ messages }) =>
    messages.filter(({ flags }) => flags.has('flagged')),
  ).length;
  assert.ok((await carriedOut()) < 0.8);
  const left = [...host.mailbox.folders.values()].flatMap(({ messages }) =>
    messages.filter(({ flags }) => flags.has('flagged')),
  ).length;
  assert.equal(left, flagged);
});

test('and so do decisions on senders by keyboard alone, each of which is undone by a key', async () => {
  const { used, limit } = await ask('/level');
  const target = Math.floor(used - limit * 0.03);
  await driver.executeScript(
    `return fetch('/api/accounts/1/settings', { method: 'PATCH', headers: { 'content-type': 'application/json' }, body: '{"target":{"bytes":${target}}}' }).then(() => true)`,
  );
  await goTo('/senders?by=address');
  await find('[role=treegrid] [aria-level]');
  const press = (...keys: string[]) =>
    driver
      .actions()
      .sendKeys(...keys)
      .perform();
  /** The row of the cursor. */
  const current = () =>
    driver.executeScript<string | null>(
      `const grid = document.activeElement; return grid.getAttribute('role') === 'treegrid' ? document.getElementById(grid.getAttribute('aria-activedescendant'))?.innerText ?? null : null`,
    );
  for (let tabs = 0; (await current()) === null; tabs++) {
    assert.ok(tabs < 60, 'the list is reached by Tab');
    await press(Key.TAB);
  }
  const decided = async () => (await ask('/decisions')).decisions;
  await press('o');
  await (await find('#verdict-value')).sendKeys('5y', Key.ENTER);
  await until(async () => (await decided())[0]?.decision === 'trash older than 5y');
  await shows(/trash over 5y/, '[role=treegrid]');
  await press('n');
  await find('#verdict-value:focus');
  await press('3', Key.ENTER);
  await until(async () => (await decided())[0]?.decision === 'trash all but the newest 3');
  await press('u');
  await until(async () => (await decided())[0]?.decision === 'trash older than 5y');
  await press('u');
  await until(async () => (await decided()).length === 0);
  await press('k');
  await until(async () => (await decided())[0]?.guard !== null && (await decided()).length === 1);
  let rows = 0;
  for (let count = 1; (await ask('/level')).after > target; rows++) {
    assert.ok(rows < 60, 'Target reached within sixty rows');
    await press(Key.ARROW_DOWN);
    if (!/Mailings|Machines|Lists|Records/.test((await current()) ?? '')) continue;
    await press('t');
    count++;
    await until(async () => (await decided()).length === count);
  }
  await shows(/below the target/, '.strip');
  assert.ok((await carriedOut()) < target / limit);
});

test('a decision sheet is looked at before it is taken; a lot is opened, split and sent to Sift; a hold is lifted with a reason', async () => {
  await goTo('/senders?by=domain');
  await press('Decision sheet');
  await find('a[download]');
  const { senders } = await ask('/senders?by=domain&order=evidence&limit=1000');
  const key = senders.findLast(({ messages }: { messages: number }) => messages > 5).key;
  const lots = (await ask('/lots')).lots.length;
  const file = `by,key,decision\r\ndomain,${key},trash\r\ndomain,nobody.example,keep\r\ndomain,${key},burn\r\n`;
  await driver.executeScript(
    `const input = document.querySelector('input[type=file]'); const data = new DataTransfer();
     data.items.add(new File([arguments[0]], 'senders.csv')); input.files = data.files;
     input.dispatchEvent(new Event('change', { bubbles: true }));`,
    file,
  );
  await shows(
    /line 3[\s\S]*nobody\.example no longer exists[\s\S]*line 4[\s\S]*“burn” is not a valid decision/,
    '[role=dialog]',
  );
  assert.equal((await ask('/lots')).lots.length, lots);
  await accessible('the preview of a sheet');
  await (await driver.findElement(By.xpath('//button[normalize-space()="Apply 1 decisions"]'))).click();
  await until(async () => (await ask('/lots')).lots.length === lots + 1);

  const lot = (await ask('/lots')).lots.at(-1);
  await goTo('/review');
  await (await find(`[aria-label="Open: ${lot.label}"]`)).click();
  await (await find('[aria-label^="Exclude: "]')).click();
  await until(async () => (await ask(`/lots/${lot.id}`)).messages === lot.messages - 1);
  await accessible('an opened lot');
  await (await find(`[aria-label="Open in Sift: ${lot.label}"]`)).click();
  await shows(new RegExp(`${(lot.messages - 1).toLocaleString('en-GB')} marked`));

  await goTo('/guards');
  await (await find('form select')).sendKeys('a folder');
  await (await find('[aria-label="a folder with its subfolders"]')).sendKeys('Committee');
  await (await find('form input[type=checkbox]')).click();
  await (await find('form [required]:not([type=number])')).sendKeys('minutes are kept for three years', Key.ENTER);
  await shows(/Held for 3 years from receipt: under = Committee/);
  await (await find('[aria-label^="Lift: "]')).click();
  await (await find('#lift-reason')).sendKeys('the society was wound up', Key.ENTER);
  await shows(/Lifted \d{4}-\d\d-\d\d: the society was wound up/);
  await accessible('guards');
});
