import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { By, until as browserUntil, type WebDriver } from 'selenium-webdriver';
import type { FileSpaceServer } from '../../stand-in/webdav/server';
import { cleanUp, demoScenario } from '../harness';
import { accessible, ask, enterDemo, find, goTo, openDemo, press, shows, text } from './page';

let files: FileSpaceServer;
let driver: WebDriver;

before(async () => {
  ({ files, driver } = await openDemo());
  await enterDemo();
});
after(cleanUp);

test('what is not mail is measured from Level: the address stands there, and every octet is explained', async () => {
  await goTo('/level');
  await shows(/of this quota is not mail/);
  assert.match(await text('.tank-legend'), /Not mail/);
  await press('Measure the files');
  await shows(/The operator of this Tamsel names this address/, '[role=dialog]');
  assert.equal(await (await find('[role=dialog] input[name=address]')).getAttribute('value'), files.url.href);
  await accessible('the form of a file space');
  await press('Sign in and measure');
  await shows(/every octet that the host counts is explained/);
  await shows(/6 files, .* are shared by others and don’t count/);
  await driver.wait(browserUntil.elementLocated(By.xpath('//h2[.="Where the files are"]')), 20_000);
  const legend = await text('.tank-legend');
  assert.match(legend, /Files/);
  assert.match(legend, /Pictures/);
  assert.doesNotMatch(legend, /Not mail|Something else/);
  const { space } = await ask('/level');
  assert.equal(space.files.bytes + space.pictures.bytes, demoScenario().notMail);
  await accessible('Level with files');
});

test('attached files that are kept there too are compared, and marked to be taken out of their messages', async () => {
  await goTo('/repeats');
  await (
    await driver.wait(
      browserUntil.elementLocated(By.xpath('//button[contains(., "Mailed, and kept as a file")]')),
      20_000,
    )
  ).click();
  await press('Compare them');
  await shows(/2 files are in your file space too/);
  const { groups } = await ask('/repeats/spaces');
  for (const { places } of groups) await shows(new RegExp(places[0].path));
  await accessible('files that are mailed and kept');
  const copies = groups.reduce((sum: number, { going }: { going: { files: number } }) => sum + going.files, 0);
  await press(copies === 1 ? 'Add 1 copy to the plan' : `Add ${copies} copies to the plan`);
  await shows(/can be taken out of messages · 0 B/);
  const [lot] = (await ask('/lots')).lots;
  assert.deepEqual([lot.label, lot.fate], ['Files that the file space has too', 'strip']);
  await goTo('/level');
});

test('a password that is refused is told where it is typed, and nothing is lost; a file space can be forgotten', async () => {
  await press('Add another file space');
  await shows(/Sign in with another user name/, '[role=dialog]');
  await (await driver.findElements(By.css('[role=dialog] input[type=radio]')))[1]?.click();
  await (await find('[role=dialog] input[name=user]')).sendKeys('secretary');
  await (await find('[role=dialog] input[name=password]')).sendKeys('wrong');
  await press('Sign in and measure');
  await shows(/does not take this password/, '[role=dialog]');
  assert.equal(await (await find('[role=dialog] input[name=user]')).getAttribute('value'), 'secretary');
  await (await find('[role=dialog] .link')).click();
  await press('Forget it');
  await shows(/Nothing changes on the server/, '[role=dialog]');
  await press('Forget');
  await shows(/of this quota is not mail/);
  assert.equal(files.tree.files.size > 60, true);
});
